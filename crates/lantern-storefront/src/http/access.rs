//! Access: a token for a name and its secret. Source: RFC 6749, section 4.4.

use std::time::{Duration, Instant};

use reqwest::StatusCode;
use reqwest::blocking::{RequestBuilder, Response};
use reqwest::header::AUTHORIZATION;

use super::{HttpStorefront, MAX_JSON_LEN};
use crate::StorefrontError;
use crate::protocol::{Token, TokenError};

/// How often in a row an access that has just been given may be refused.
const RENEWALS: usize = 3;
/// Longest that access is trusted without being renewed, whatever the server says.
const MAX_TOKEN_LIFE: u64 = 24 * 60 * 60;

impl HttpStorefront {
    pub(super) fn fresh_token(&self) -> Result<Token, StorefrontError> {
        let not_connected = || StorefrontError::NotConnected { address: self.origin.clone() };
        let access = self.opening.access.as_ref().ok_or_else(not_connected)?;
        let path = &self.discovery()?.token_path;
        if !path.starts_with('/') || path.starts_with("//") {
            return Err(self.nonsense("a discovery document", "its token path leads to another origin"));
        }
        let form = [
            ("grant_type", "client_credentials"),
            ("client_id", access.client_id.as_str()),
            ("client_secret", access.client_secret.as_str()),
        ];
        let response = self.send(&|| Ok(self.client.post(self.url(path)).form(&form)))?;
        let status = response.status();
        let bytes = self.read(response, MAX_JSON_LEN)?;
        if status.is_success() {
            return self.json(&bytes, "an access token");
        }
        let error: TokenError = self.json(&bytes, "an answer about access")?;
        match error.error.as_str() {
            "invalid_client" => Err(StorefrontError::WrongSecret { address: self.origin.clone() }),
            other => Err(self.nonsense("an access token", other.to_owned())),
        }
    }

    pub(super) fn token(&self) -> Result<String, StorefrontError> {
        let mut kept = self.token.lock().expect("nothing panics with the lock");
        if let Some((token, until)) = kept.as_ref()
            && Instant::now() < *until
        {
            return Ok(token.clone());
        }
        let token = self.fresh_token()?;
        // Renewed a little early, so that it does not expire on the way.
        let life = token.expires_in.min(MAX_TOKEN_LIFE);
        let until = Instant::now() + Duration::from_secs(life.saturating_sub(30).max(life / 2));
        *kept = Some((token.access_token.clone(), until));
        Ok(token.access_token)
    }

    /// Sends with access; an expired token is renewed.
    pub(super) fn with_access(&self, make: &dyn Fn() -> RequestBuilder) -> Result<Response, StorefrontError> {
        for _ in 0..=RENEWALS {
            let token = self.token()?;
            let response = self.send(&|| Ok(make().header(AUTHORIZATION, format!("Bearer {token}"))))?;
            if response.status() != StatusCode::UNAUTHORIZED {
                return Ok(response);
            }
            // Another thread may have a fresh one by now.
            let mut kept = self.token.lock().expect("nothing panics with the lock");
            kept.take_if(|(kept, _)| *kept == token);
        }
        Err(StorefrontError::AccessNotKept { address: self.origin.clone() })
    }
}
