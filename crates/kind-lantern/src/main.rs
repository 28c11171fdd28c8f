//! (being written)
fn main() {}
