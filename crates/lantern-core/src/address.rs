//! Addresses of storefronts.

use std::fmt;
use std::net::{IpAddr, Ipv6Addr};

/// Why an address cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum AddressError {
    /// Not `http://` or `https://` with a host.
    #[error("{0:?} is not an address of a storefront")]
    Shape(String),
    /// Plain HTTP to another computer.
    #[error("{0:?} would send your access unprotected over the network")]
    NotThisComputer(String),
}

impl AddressError {
    /// Returns what to do.
    pub const fn fix(&self) -> &'static str {
        match self {
            Self::Shape(_) => "write scheme and host, such as \"https://brambleyard.example\"",
            Self::NotThisComputer(_) => {
                "write https:// instead; without it only a storefront on this computer is asked, such as the rehearsal's"
            }
        }
    }
}

/// Ports of the two schemes where none is written.
const PORT: u16 = 80;
const SECURE_PORT: u16 = 443;

/// The origin of a storefront: scheme, host, port. Plain HTTP goes only to this computer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Address {
    is_secure: bool,
    host: String,
    port: u16,
}

impl Address {
    /// Reads an address; a slash at its end is dropped.
    ///
    /// # Errors
    /// [`AddressError`].
    pub fn parse(text: &str) -> Result<Self, AddressError> {
        let shape = || AddressError::Shape(text.chars().take(200).collect());
        let (is_secure, rest) = match text.split_once("://") {
            Some(("https", rest)) => (true, rest),
            Some(("http", rest)) => (false, rest),
            _ => return Err(shape()),
        };
        let rest = rest.strip_suffix('/').unwrap_or(rest);
        if rest.contains(['/', '?', '#', '@', ' ']) || rest.chars().any(char::is_control) {
            return Err(shape());
        }
        let (host, port) = match rest.rsplit_once(':') {
            Some((host, port)) if !host.ends_with(':') && (!host.starts_with('[') || host.ends_with(']')) => {
                (host, port.parse().map_err(|_| shape())?)
            }
            _ => (rest, if is_secure { SECURE_PORT } else { PORT }),
        };
        let bare = host.strip_prefix('[').and_then(|h| h.strip_suffix(']'));
        let loopback = match bare {
            Some(v6) => v6.parse::<Ipv6Addr>().map_err(|_| shape())?.is_loopback(),
            None => host == "localhost" || host.parse::<IpAddr>().is_ok_and(|ip| ip.is_loopback()),
        };
        if host.is_empty() || (bare.is_none() && host.contains(['[', ']', ':'])) {
            return Err(shape());
        }
        if !loopback && !is_secure {
            return Err(AddressError::NotThisComputer(text.chars().take(200).collect()));
        }
        Ok(Self { is_secure, host: host.to_owned(), port })
    }

    /// Returns the port.
    pub const fn port(&self) -> u16 {
        self.port
    }
}

impl fmt::Display for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (self.is_secure, self.port) {
            (true, SECURE_PORT) => write!(f, "https://{}", self.host),
            (true, port) => write!(f, "https://{}:{port}", self.host),
            (false, port) => write!(f, "http://{}:{port}", self.host),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn plain_http_goes_to_this_computer_only() {
        for good in ["http://127.0.0.1:4870", "http://localhost:1/", "http://[::1]:80", "http://127.0.0.9"] {
            assert!(Address::parse(good).is_ok(), "{good}");
        }
        assert_eq!(Address::parse("http://localhost/").unwrap().to_string(), "http://localhost:80");
        for (secure, shown) in [
            ("https://x.example", "https://x.example"),
            ("https://x.example:443/", "https://x.example"),
            ("https://x.example:8443", "https://x.example:8443"),
            ("https://[2001:db8::1]", "https://[2001:db8::1]"),
            ("https://127.0.0.1:1", "https://127.0.0.1:1"),
        ] {
            assert_eq!(Address::parse(secure).unwrap().to_string(), shown);
        }
        for far in ["http://x.example", "http://127.0.0.1.x.example:80", "http://10.0.0.1", "http://[2001:db8::1]:1"] {
            assert!(matches!(Address::parse(far), Err(AddressError::NotThisComputer(_))), "{far}");
        }
        for bad in [
            "",
            "ftp://x",
            "http://",
            "http://localhost:99999",
            "http://a@127.0.0.1",
            "http://127.0.0.1/x",
            "http://[::1",
            "https://",
            "https:///x",
            "https://a@x.example",
            "HTTPS://x.example",
        ] {
            assert!(matches!(Address::parse(bad), Err(AddressError::Shape(_))), "{bad}");
        }
    }
}
