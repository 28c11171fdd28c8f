//! Exports as others look into them.

#[cfg(test)]
mod memory;
