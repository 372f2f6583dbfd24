//! How the program is linked.

use std::env::var;

fn main() {
    println!("cargo::rerun-if-changed=build.rs");
    // The places that are set to their addresses at each start are written down as bits instead of 24 bytes each: 1.2 MB less. glibc
    // reads that since 2.36; a linker that does not know it warns, and goes on.
    if var("CARGO_CFG_TARGET_OS").is_ok_and(|os| os == "linux")
        && var("CARGO_CFG_TARGET_ENV").is_ok_and(|env| env == "gnu")
    {
        println!("cargo::rustc-link-arg-bins=-Wl,-z,pack-relative-relocs");
    }
}
