//! The use cases as others call them.

#[cfg(test)]
mod memory;
