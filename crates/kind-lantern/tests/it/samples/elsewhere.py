"""Passes requests on to a storefront, and sends players of packs on to an address with TLS: elsewhere.py PORT SECURE_PORT.
Prints its own port."""
import http.server
import sys
import urllib.error
import urllib.request

PORT, SECURE_PORT = sys.argv[1:]


class Handler(http.server.BaseHTTPRequestHandler):
    def answer(self):
        if self.path.startswith("/v1/play/") and "/packs/" in self.path:
            self.send_response(307)
            self.send_header("Location", f"https://localhost:{SECURE_PORT}{self.path}")
            self.send_header("Content-Length", "0")
            self.end_headers()
            return
        body = self.rfile.read(int(self.headers.get("Content-Length", 0))) or None
        headers = {name: value for name, value in self.headers.items() if name.lower() not in ("host", "connection")}
        request = urllib.request.Request(f"http://127.0.0.1:{PORT}{self.path}", body, headers, method=self.command)
        try:
            answer = urllib.request.urlopen(request)
        except urllib.error.HTTPError as error:
            answer = error
        bytes_ = answer.read()
        self.send_response(answer.status)
        for name, value in answer.headers.items():
            if name.lower() not in ("connection", "transfer-encoding", "content-length", "date", "server"):
                self.send_header(name, value)
        self.send_header("Content-Length", str(len(bytes_)))
        self.end_headers()
        self.wfile.write(bytes_)

    do_GET = do_POST = do_PUT = answer

    def log_message(self, *_):
        pass


server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
print(server.server_port, flush=True)
server.serve_forever()
