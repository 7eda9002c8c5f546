//! Migrations are compiled in, so a new one is a reason to compile.

fn main() {
    println!("cargo::rerun-if-changed=migrations");
}
