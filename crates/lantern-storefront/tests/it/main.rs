//! The client against a server that lies, stalls, fails and talks nonsense.

#[cfg(test)]
mod client;
// Its connectors are scripts of a shell that only these systems have.
#[cfg(test)]
#[cfg(unix)]
mod connectors;
