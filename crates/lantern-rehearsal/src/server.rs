//! The HTTP side of a stand-in storefront: a server around the endpoints.

mod about;
mod branches;
mod builds;
mod content;
mod endpoints;
mod faults;
mod invitations;
mod noon_gun;
mod players;
mod request;
mod titles;

use std::net::SocketAddr;
use std::sync::Arc;

use axum::Json;
use axum::extract::DefaultBodyLimit;
use axum::http::{HeaderName, StatusCode, header};
use axum::response::{IntoResponse, Response};
use lantern_storefront::protocol::problem;
use serde_json::Value;
use tokio::net::TcpListener;
use tokio::sync::oneshot;

pub(crate) use self::content::PieceRange;
use self::endpoints::api;
pub use self::noon_gun::PATH as NOON_GUN;
use crate::refusal::Refused;
use crate::stand_in::StandIn;

/// Returns the protocol's OpenAPI 3.1 document, made of the code that answers.
pub fn openapi() -> Value {
    api(None).document()
}

/// A stand-in that answers until this is dropped.
#[derive(Debug)]
pub struct Running {
    address: SocketAddr,
    stand_in: Arc<StandIn>,
    stop: Option<oneshot::Sender<()>>,
    thread: Option<std::thread::JoinHandle<()>>,
}

impl Running {
    /// Starts answering on loopback; port 0 takes a free one.
    ///
    /// # Errors
    /// [`Refused::Failed`], for instance when the port is taken.
    pub fn start(stand_in: StandIn, port: u16) -> Result<Self, Refused> {
        let stand_in = Arc::new(stand_in);
        let runtime = tokio::runtime::Builder::new_multi_thread().enable_io().enable_time().build()?;
        let listener = runtime.block_on(TcpListener::bind(("127.0.0.1", port)))?;
        let address = listener.local_addr()?;
        stand_in.remember_port(address.port())?;
        let (stop, stopped) = oneshot::channel::<()>();
        let limit = usize::try_from(stand_in.discovery().limits.recipe_bytes).unwrap_or(usize::MAX);
        let router = api(Some(stand_in.clone()))
            .router()
            .route("/v1/openapi.json", axum::routing::get(async || Json(openapi())))
            .merge(noon_gun::router(stand_in.clone()))
            .fallback(|| async { Refused::new(problem::NOT_FOUND, "there is nothing here", "see /v1/openapi.json") })
            .layer(DefaultBodyLimit::max(limit))
            .layer(axum::middleware::map_response(name_too_large))
            .layer(axum::middleware::from_fn(say_how_long))
            .layer(axum::middleware::from_fn_with_state(stand_in.clone(), faults::act))
            .with_state(stand_in.clone());
        let thread = std::thread::spawn(move || {
            runtime.block_on(async {
                let server = axum::serve(listener, router);
                tokio::select! {
                    _ = server => {}
                    _ = stopped => {}
                }
            });
            runtime.shutdown_timeout(std::time::Duration::from_secs(2));
        });
        Ok(Self { address, stand_in, stop: Some(stop), thread: Some(thread) })
    }

    /// Returns the origin, such as `http://127.0.0.1:4870`.
    pub fn origin(&self) -> String {
        format!("http://{}", self.address)
    }

    /// Returns the storefront behind it.
    pub fn stand_in(&self) -> &StandIn {
        &self.stand_in
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        if let Some(stop) = self.stop.take() {
            // Anyone who would hear it may have ended already.
            let _ = stop.send(());
        }
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// Says how long an answer can be kept: what is named by its content for ever, everything else not without asking.
async fn say_how_long(request: axum::extract::Request, next: axum::middleware::Next) -> Response {
    let path = request.uri().path().to_owned();
    let is_get = request.method() == axum::http::Method::GET;
    let mut response = next.run(request).await;
    let is_named_by_content = ["/recipes/", "/segments/", "/packs/"].iter().any(|part| path.contains(part))
        && !path.ends_with("/received")
        && response.status().is_success();
    let how = if is_get && is_named_by_content { "private, max-age=31536000, immutable" } else { "no-cache" };
    response.headers_mut().entry(header::CACHE_CONTROL).or_insert(axum::http::HeaderValue::from_static(how));
    response
}

/// The body limit answers with plain text of its own; people get the problem document.
async fn name_too_large(response: Response) -> Response {
    let is_ours = response
        .headers()
        .get(HeaderName::from_static("content-type"))
        .is_some_and(|v| v == "application/problem+json");
    if response.status() == StatusCode::PAYLOAD_TOO_LARGE && !is_ours {
        return Refused::new(problem::TOO_LARGE, "the body is above the limit", "see limits in the discovery document")
            .into_response();
    }
    response
}
