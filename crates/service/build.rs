//! The console's files are taken in as they were built: once they are built
//! anew, or for the first time, so is what holds them.

fn main() {
    println!("cargo:rerun-if-changed=../../console/dist");
}
