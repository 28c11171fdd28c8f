//! Compares the stand-in with the protocol, over HTTP, without the client's help.

#[cfg(test)]
mod protocol;
#[cfg(test)]
mod scene;
