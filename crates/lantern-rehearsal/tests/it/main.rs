//! Compares the stand-in with the protocol, over HTTP, without the client's help; and every kind of storefront with the suite.

#[cfg(test)]
mod conforming;
#[cfg(test)]
mod memory;
#[cfg(test)]
mod protocol;
#[cfg(test)]
mod scene;
