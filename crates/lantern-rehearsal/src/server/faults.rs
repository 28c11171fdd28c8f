//! What the weather does to a request and its answer.

use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use axum::body::{Body, Bytes};
use axum::extract::{Request, State};
use axum::http::{HeaderValue, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use futures_core::Stream;

use crate::stand_in::StandIn;
use crate::weather::Fault;

/// Largest answer that is held back to be cut or changed, in bytes.
const MAX_ANSWER_LEN: usize = 256 * 1024 * 1024;
/// How long a slow line holds an answer back.
const SLOW: Duration = Duration::from_millis(120);

/// An answer whose connection ends after some bytes.
struct CutShort(Option<Bytes>);

impl Stream for CutShort {
    type Item = Result<Bytes, std::io::Error>;
    fn poll_next(mut self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        Poll::Ready(Some(match self.0.take() {
            Some(bytes) => Ok(bytes),
            None => Err(std::io::ErrorKind::ConnectionReset.into()),
        }))
    }
}

fn failed() -> Response {
    (StatusCode::BAD_GATEWAY, "the weather is bad\n").into_response()
}

/// Lets the weather of a storefront act on a request and its answer.
pub(super) async fn act(State(stand_in): State<Arc<StandIn>>, request: Request, next: Next) -> Response {
    let Some((fault, number)) = stand_in.weather().and_then(|weather| weather.draw()) else {
        return next.run(request).await;
    };
    match fault {
        Fault::Failing => return failed(),
        Fault::Busy => {
            let mut response = StatusCode::TOO_MANY_REQUESTS.into_response();
            response.headers_mut().insert(header::RETRY_AFTER, HeaderValue::from_static("0"));
            return response;
        }
        Fault::Expired => stand_in.forget_tokens(),
        Fault::Slow => tokio::time::sleep(SLOW).await,
        Fault::FullDisk if !matches!(*request.method(), Method::GET | Method::HEAD) => {
            return (StatusCode::INSUFFICIENT_STORAGE, "the disk is full\n").into_response();
        }
        Fault::Restart if number.is_multiple_of(2) => {
            return match stand_in.restart() {
                Ok(()) => Response::new(Body::from_stream(CutShort(None))),
                Err(refused) => refused.into_response(),
            };
        }
        Fault::FullDisk | Fault::Restart | Fault::WrongClock => {}
        Fault::Cut | Fault::LostAnswer | Fault::FailingLate | Fault::WrongBytes => {}
    }
    let response = next.run(request).await;
    let (mut parts, body) = response.into_parts();
    match fault {
        Fault::FailingLate => failed(),
        Fault::Restart => match stand_in.restart() {
            Ok(()) => Response::from_parts(parts, Body::from_stream(CutShort(None))),
            Err(refused) => refused.into_response(),
        },
        Fault::Cut | Fault::LostAnswer => {
            let Ok(bytes) = axum::body::to_bytes(body, MAX_ANSWER_LEN).await else { return failed() };
            let len = if fault == Fault::LostAnswer { 0 } else { bytes.len() / 2 };
            let some = (len > 0).then(|| bytes.slice(..len));
            Response::from_parts(parts, Body::from_stream(CutShort(some)))
        }
        Fault::WrongBytes => {
            let is_bytes = parts.headers.get(header::CONTENT_TYPE).is_some_and(|t| t == "application/octet-stream");
            if !is_bytes {
                return Response::from_parts(parts, body);
            }
            let Ok(bytes) = axum::body::to_bytes(body, MAX_ANSWER_LEN).await else { return failed() };
            let mut bytes = bytes.to_vec();
            let at = usize::try_from(number % bytes.len().max(1) as u64).unwrap_or(0);
            if let Some(byte) = bytes.get_mut(at) {
                *byte ^= 0x40;
            }
            parts.headers.remove(header::CONTENT_LENGTH);
            Response::from_parts(parts, Body::from(bytes))
        }
        Fault::Failing | Fault::Busy | Fault::Expired | Fault::Slow | Fault::FullDisk | Fault::WrongClock => {
            Response::from_parts(parts, body)
        }
    }
}
