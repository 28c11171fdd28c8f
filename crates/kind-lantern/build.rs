//! How the program is linked.

use std::env;

fn main() {
    println!("cargo:rerun-if-changed=build.rs");
    let is = |name: &str, what: &str| env::var(name).is_ok_and(|value| value == what);
    // The tests start it ten thousand times, and a program without optimisation has 200,000 addresses that would be written into it at each
    // start. What is handed out is independent of its position.
    let is_for_tests =
        is("PROFILE", "debug") && is("CARGO_CFG_TARGET_OS", "linux") && is("CARGO_CFG_TARGET_ENV", "gnu");
    if is_for_tests {
        println!("cargo:rustc-link-arg-bins=-no-pie");
    }
}
