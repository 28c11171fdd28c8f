//! A local web server for browser builds: the right types and headers, nothing outside of its folder.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use axum::Router;
use axum::body::Body;
use axum::extract::State;
use axum::http::{StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use lantern_core::path::TreePath;
use tokio::net::TcpListener;
use tokio::sync::oneshot;

use crate::refusal::Refused;

/// Media types by the ending of a name. Source: the registry of media types, and the HTML standard for scripts.
const TYPES: [(&str, &str); 22] = [
    ("html", "text/html; charset=utf-8"),
    ("htm", "text/html; charset=utf-8"),
    ("js", "text/javascript; charset=utf-8"),
    ("mjs", "text/javascript; charset=utf-8"),
    ("css", "text/css; charset=utf-8"),
    ("json", "application/json"),
    ("wasm", "application/wasm"),
    ("data", "application/octet-stream"),
    ("png", "image/png"),
    ("jpg", "image/jpeg"),
    ("jpeg", "image/jpeg"),
    ("gif", "image/gif"),
    ("svg", "image/svg+xml"),
    ("webp", "image/webp"),
    ("ico", "image/vnd.microsoft.icon"),
    ("ogg", "audio/ogg"),
    ("mp3", "audio/mpeg"),
    ("wav", "audio/wav"),
    ("mp4", "video/mp4"),
    ("webm", "video/webm"),
    ("woff2", "font/woff2"),
    ("txt", "text/plain; charset=utf-8"),
];

/// A server that runs until it is dropped.
#[derive(Debug)]
pub struct Page {
    address: SocketAddr,
    stop: Option<oneshot::Sender<()>>,
    thread: Option<std::thread::JoinHandle<()>>,
}

/// Returns a file's media type, and its encoding where the name says that it is compressed.
fn type_of(path: &str) -> (&'static str, Option<&'static str>) {
    let (name, encoding) = match path.rsplit_once('.') {
        Some((name, "gz")) => (name, Some("gzip")),
        Some((name, "br")) => (name, Some("br")),
        _ => (path, None),
    };
    let ending = name.rsplit_once('.').map_or("", |(_, ending)| ending).to_lowercase();
    let found = TYPES.iter().find(|(known, _)| *known == ending);
    (found.map_or("application/octet-stream", |(_, kind)| kind), encoding)
}

/// Returns the path that an address means: decoded, and inside of the folder.
fn path_of(uri: &Uri) -> Option<TreePath> {
    let text = uri.path().trim_start_matches('/');
    let mut bytes = Vec::new();
    let mut rest = text.bytes();
    while let Some(byte) = rest.next() {
        if byte != b'%' {
            bytes.push(byte);
            continue;
        }
        let digits = [rest.next()?, rest.next()?];
        bytes.push(u8::from_str_radix(std::str::from_utf8(&digits).ok()?, 16).ok()?);
    }
    let text = String::from_utf8(bytes).ok()?;
    let text = if text.is_empty() || text.ends_with('/') { format!("{text}index.html") } else { text };
    TreePath::new(text).ok()
}

async fn file(State(folder): State<Arc<PathBuf>>, uri: Uri) -> Response {
    let not_found = || (StatusCode::NOT_FOUND, "there is no such file in the build\n").into_response();
    let Some(path) = path_of(&uri) else { return not_found() };
    let full = folder.join(path.as_str());
    let read = tokio::task::spawn_blocking(move || std::fs::read(full)).await;
    let Ok(Ok(bytes)) = read else { return not_found() };
    let (kind, encoding) = type_of(path.as_str());
    let mut response = Response::new(Body::from(bytes));
    let headers = response.headers_mut();
    let mut set = |name, value: &'static str| {
        headers.insert(name, header::HeaderValue::from_static(value));
    };
    set(header::CONTENT_TYPE, kind);
    if let Some(encoding) = encoding {
        set(header::CONTENT_ENCODING, encoding);
    }
    set(header::CACHE_CONTROL, "no-store");
    set(header::X_CONTENT_TYPE_OPTIONS, "nosniff");
    // Threads in a browser need a page that is isolated from others (HTML standard, cross-origin isolation).
    set(header::HeaderName::from_static("cross-origin-opener-policy"), "same-origin");
    set(header::HeaderName::from_static("cross-origin-embedder-policy"), "require-corp");
    set(header::HeaderName::from_static("cross-origin-resource-policy"), "same-origin");
    response
}

impl Page {
    /// Serves a folder on 127.0.0.1; port 0 takes a free one.
    ///
    /// # Errors
    /// [`Refused::Failed`] when the port is taken.
    pub fn start(folder: &Path, port: u16) -> Result<Self, Refused> {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_io().build()?;
        let listener = runtime.block_on(TcpListener::bind((std::net::Ipv4Addr::LOCALHOST, port)))?;
        let address = listener.local_addr()?;
        let (stop, stopped) = oneshot::channel::<()>();
        let router = Router::new().fallback(get(file)).with_state(Arc::new(folder.to_owned()));
        let thread = std::thread::spawn(move || {
            runtime.block_on(async {
                let served = async { axum::serve(listener, router).await };
                tokio::select! {
                    _ = served => {}
                    _ = stopped => {}
                }
            });
        });
        Ok(Self { address, stop: Some(stop), thread: Some(thread) })
    }

    /// Returns its address, without a slash at the end.
    pub fn origin(&self) -> String {
        format!("http://{}", self.address)
    }
}

impl Drop for Page {
    fn drop(&mut self) {
        if let Some(stop) = self.stop.take() {
            let _ = stop.send(());
        }
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn types_and_encodings() {
        assert_eq!(type_of("game.wasm"), ("application/wasm", None));
        assert_eq!(type_of("Build/game.wasm.br"), ("application/wasm", Some("br")));
        assert_eq!(type_of("game.framework.js.gz"), ("text/javascript; charset=utf-8", Some("gzip")));
        assert_eq!(type_of("save"), ("application/octet-stream", None));
    }

    #[test]
    fn no_address_leads_out_of_the_folder() {
        let path = |text: &str| path_of(&text.parse().unwrap()).map(|p| p.as_str().to_owned());
        assert_eq!(path("/"), Some("index.html".to_owned()));
        assert_eq!(path("/a%20b/?x=1"), Some("a b/index.html".to_owned()));
        for hostile in
            ["/../etc/passwd", "/%2e%2e/secret", "//etc/passwd/..", "/a/%2F..", "/%00", "/%ff", "/C:/x", "/%"]
        {
            assert_eq!(path(hostile), None, "{hostile}");
        }
    }

    #[test]
    fn a_build_is_served_with_its_types_and_headers() {
        let temp = tempfile::tempdir().unwrap();
        std::fs::write(temp.path().join("index.html"), "<!doctype html>").unwrap();
        std::fs::write(temp.path().join("game.wasm.gz"), b"packed").unwrap();
        let page = Page::start(temp.path(), 0).unwrap();
        let get = |path: &str| reqwest::blocking::get(format!("{}{path}", page.origin())).unwrap();
        let index = get("/");
        assert_eq!(index.headers()["content-type"], "text/html; charset=utf-8");
        assert_eq!(index.headers()["cross-origin-opener-policy"], "same-origin");
        assert_eq!(index.text().unwrap(), "<!doctype html>");
        assert_eq!(get("/game.wasm.gz").headers()["content-encoding"], "gzip");
        assert_eq!(get("/nothing.js").status().as_u16(), 404);
    }
}
