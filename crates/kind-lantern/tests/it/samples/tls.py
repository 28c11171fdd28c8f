"""Speaks TLS in front of a server that does not: tls.py CERTIFICATE KEY PORT. Prints its own port."""
import socket
import ssl
import sys
import threading

context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
context.load_cert_chain(sys.argv[1], sys.argv[2])
listener = socket.create_server(("127.0.0.1", 0))
print(listener.getsockname()[1], flush=True)


def carry(one, other):
    try:
        while data := one.recv(65536):
            other.sendall(data)
    except OSError:
        pass
    for end in (one, other):
        try:
            end.shutdown(socket.SHUT_RDWR)
        except OSError:
            pass


def serve(client):
    try:
        secure = context.wrap_socket(client, server_side=True)
        behind = socket.create_connection(("127.0.0.1", int(sys.argv[3])))
    except OSError:
        client.close()
        return
    threading.Thread(target=carry, args=(secure, behind), daemon=True).start()
    carry(behind, secure)


while True:
    client, _ = listener.accept()
    threading.Thread(target=serve, args=(client,), daemon=True).start()
