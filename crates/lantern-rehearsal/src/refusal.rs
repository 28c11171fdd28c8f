//! What a handler answers when it does not do what was asked.

use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use lantern_core::rules::Refusal;
use lantern_storefront::protocol::{Problem, problem};

/// A problem document (RFC 9457) with its status, or a failure of the stand-in itself.
#[derive(Debug)]
pub enum Refused {
    /// The request cannot be done.
    Problem(Box<Problem>),
    /// The stand-in failed: disk, database.
    Failed(String),
}

impl Refused {
    /// Makes a problem.
    pub fn new(kind: problem::Kind, detail: impl Into<String>, fix: impl Into<String>) -> Self {
        Self::Problem(Box::new(problem_of(kind, detail, fix)))
    }

    /// Makes a problem of house rules that are in the way.
    pub fn by_rules(refusals: Vec<Refusal>) -> Self {
        let taken = refusals.iter().all(|r| r.rule == "number-taken");
        let kind = if taken { problem::NUMBER_TAKEN } else { problem::RULES };
        let detail: Vec<&str> = refusals.iter().map(|r| r.what.as_str()).collect();
        let fix: Vec<&str> = refusals.iter().map(|r| r.fix.as_str()).collect();
        let refused = Self::new(kind, detail.join("; "), fix.join("; "));
        match refused {
            Self::Problem(problem) => Self::Problem(Box::new(Problem { refusals, ..*problem })),
            other => other,
        }
    }
}

fn problem_of(kind: problem::Kind, detail: impl Into<String>, fix: impl Into<String>) -> Problem {
    let (name, status, title) = kind;
    Problem {
        kind: format!("/problems/{name}"),
        title: title.to_owned(),
        status,
        detail: detail.into(),
        fix: fix.into(),
        refusals: Vec::new(),
    }
}

impl<E: std::error::Error + 'static> From<E> for Refused {
    fn from(error: E) -> Self {
        let of_database = (&error as &dyn std::any::Any).downcast_ref::<rusqlite::Error>();
        if let Some(rusqlite::Error::ToSqlConversionFailure(_)) = of_database {
            return Self::new(problem::MALFORMED, "a number is larger than any here", "fix the number");
        }
        Self::Failed(error.to_string())
    }
}

impl IntoResponse for Refused {
    fn into_response(self) -> Response {
        let problem = match self {
            Self::Problem(problem) => *problem,
            Self::Failed(detail) => problem_of(problem::FAILED, detail, "try again"),
        };
        let status = StatusCode::from_u16(problem.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let body = serde_json::to_vec(&problem).unwrap_or_default();
        let json = HeaderValue::from_static("application/problem+json");
        let mut response = (status, [(header::CONTENT_TYPE, json)], body).into_response();
        if status == StatusCode::UNAUTHORIZED {
            // RFC 6750, section 3.
            response.headers_mut().insert(header::WWW_AUTHENTICATE, HeaderValue::from_static("Bearer"));
        }
        response
    }
}
