//! The client against a server that lies, stalls, fails and talks nonsense.

#[cfg(test)]
mod client;
