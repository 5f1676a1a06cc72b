//! Rules that are not kept where all others are, so that only their tables' names can be read.

use std::fs;

/// Rule sets older than those read here; each file names the tables that are in use.
const OLDER: [&str; 2] = ["/proc/net/ip_tables_names", "/proc/net/ip6_tables_names"];

/// What there is of them, in words.
pub(crate) fn older() -> Vec<String> {
    let mut found = Vec::new();
    for file in OLDER {
        // A kernel without them has no such file.
        let names = fs::read_to_string(file).unwrap_or_default();
        if !names.trim().is_empty() {
            let names: Vec<&str> = names.split_whitespace().collect();
            found.push(format!("rules of an older kind ({file}: {})", names.join(", ")));
        }
    }
    found
}
