//! The program's entry.

use std::process::ExitCode;

/// The C library's own, which a static build brings along, takes its time over many small pieces.
#[cfg(target_env = "musl")]
#[global_allocator]
static ALLOCATOR: dlmalloc::GlobalDlmalloc = dlmalloc::GlobalDlmalloc;

fn main() -> ExitCode {
    tipstaff_cli::run()
}
