//! What `--version` says of how the program was built.

use std::path::Path;
use std::process::Command;

fn main() {
    // Set where there is no repository, as in a package's sources.
    println!("cargo:rerun-if-env-changed=TIPSTAFF_COMMIT");
    let given = std::env::var("TIPSTAFF_COMMIT").ok().filter(|it| !it.is_empty());
    let commit = given.or_else(head).unwrap_or_else(|| "unknown".into());
    println!("cargo:rustc-env=TIPSTAFF_COMMIT={commit}");
    let target = std::env::var("TARGET").unwrap_or_else(|_| "unknown".into());
    println!("cargo:rustc-env=TIPSTAFF_TARGET={target}");
}

/// The commit that is checked out here.
fn head() -> Option<String> {
    let moves = Path::new("../../.git/logs/HEAD");
    if moves.exists() {
        println!("cargo:rerun-if-changed={}", moves.display());
    }
    let output = Command::new("git").args(["rev-parse", "--short=12", "HEAD"]).output().ok()?;
    let text = String::from_utf8(output.stdout).ok()?;
    output.status.success().then(|| text.trim().to_owned()).filter(|it| !it.is_empty())
}
