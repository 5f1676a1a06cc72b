//! Whose work the program contains, and under which terms.

use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;
use std::path::Path;
use std::{fs, io};

/// The terms that may go into the program, as SPDX names them. Of alternatives one is enough.
const ACCEPTED: [&str; 9] = [
    "0BSD",
    "Apache-2.0",
    "Apache-2.0 WITH LLVM-exception",
    "BSD-2-Clause",
    "BSD-3-Clause",
    "ISC",
    "MIT",
    "Unicode-3.0",
    "Zlib",
];

/// What is linked in and no crate: the language's library, and the C library of static builds.
const ALSO: &str = "\
The Rust standard library: MIT OR Apache-2.0. Copyright (c) The Rust Project Contributors.

In the static builds, the musl C library: MIT. Copyright (c) 2005-2020 Rich Felker, et al.
";

/// What cannot be told, or must not be shipped.
#[derive(Debug, thiserror::Error)]
pub enum Trouble {
    #[error("the description of the crates has no `{0}`")]
    Missing(&'static str),
    #[error("{name} is under `{terms}`, which is not among the accepted terms")]
    Terms { name: String, terms: String },
    #[error("{0}: {1}")]
    File(String, io::Error),
}

/// Whether something under these terms may be shipped.
pub fn acceptable(terms: &str) -> bool {
    // Crates of old write `/` for OR.
    let terms = terms.replace('/', " OR ").replace(['(', ')'], " ");
    terms.split(" AND ").all(|part| {
        part.split(" OR ").any(|it| {
            ACCEPTED.contains(&it.split_whitespace().collect::<Vec<_>>().join(" ").as_str())
        })
    })
}

/// The notices for the program as built for `target`.
///
/// # Errors
/// [`Trouble`] if terms are not acceptable or a text cannot be read.
pub fn text(metadata: &Value, target: &str) -> Result<String, Trouble> {
    let packages = list(metadata, "packages")?;
    let of = |id: &str| packages.iter().find(|it| it["id"] == id);
    let mut text = format!(
        "Tipstaff for {target} is licensed under MIT OR Apache-2.0, at your choice. It contains the work of \
         others:\n\n{ALSO}\n"
    );
    let mut alike: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for id in linked(metadata)? {
        let Some(package) = of(&id) else {
            return Err(Trouble::Missing("package of a dependency"));
        };
        let word = |key: &str| package[key].as_str().unwrap_or_default().to_owned();
        let (name, terms) = (format!("{} {}", word("name"), word("version")), word("license"));
        if package["source"].is_null() {
            continue;
        }
        if !acceptable(&terms) {
            return Err(Trouble::Terms { name, terms });
        }
        let _ = writeln!(text, "{name}: {terms}");
        let texts = texts(Path::new(&word("manifest_path")))?;
        // Of a choice between these two the shorter is taken, where its text is there.
        let chosen = texts.iter().any(|it| it.0.contains("MIT"));
        for (file, words) in texts {
            if !(chosen && file.contains("APACHE")) {
                alike.entry(pointed(&words)).or_default().insert(name.clone());
            }
        }
    }
    for (words, names) in alike {
        let names: Vec<String> = names.into_iter().collect();
        let _ =
            write!(text, "\n{}\n{}\n\n{}\n", "=".repeat(78), names.join(", "), words.trim_end());
    }
    Ok(text)
}

fn list<'v>(value: &'v Value, key: &'static str) -> Result<&'v Vec<Value>, Trouble> {
    value[key].as_array().ok_or(Trouble::Missing(key))
}

/// What ends in the program: all that it uses and that these use, but for what runs in the compiler or is
/// there for tests.
fn linked(metadata: &Value) -> Result<BTreeSet<String>, Trouble> {
    let packages = list(metadata, "packages")?;
    let nodes = list(&metadata["resolve"], "nodes")?;
    let in_compiler = |id: &str| {
        let package = packages.iter().find(|it| it["id"] == id);
        let kinds = package.and_then(|it| it["targets"].as_array()).into_iter().flatten();
        kinds.flat_map(|it| it["kind"].as_array()).flatten().any(|it| it == "proc-macro")
    };
    let program = packages.iter().find(|it| it["name"] == "tipstaff");
    let program = program.and_then(|it| it["id"].as_str()).ok_or(Trouble::Missing("tipstaff"))?;
    let mut found = BTreeSet::new();
    let mut open = vec![program.to_owned()];
    while let Some(id) = open.pop() {
        if in_compiler(&id) || !found.insert(id.clone()) {
            continue;
        }
        let node = nodes.iter().find(|it| it["id"] == *id).ok_or(Trouble::Missing("node"))?;
        for used in list(node, "deps")? {
            let normal = |it: &Value| it["kind"].is_null();
            if list(used, "dep_kinds")?.iter().any(normal)
                && let Some(id) = used["pkg"].as_str()
            {
                open.push(id.to_owned());
            }
        }
    }
    Ok(found)
}

/// Where the Apache License is, in place of its terms; what stands behind them is the crate's own.
const APACHE: &str = "Apache License, Version 2.0: https://www.apache.org/licenses/LICENSE-2.0\n\
                      (with this package in LICENSE-APACHE, on Debian systems in \
                      /usr/share/common-licenses/Apache-2.0)";

/// A text with the terms of the Apache License, if it has them, replaced by the place where they are.
fn pointed(words: &str) -> String {
    const END: &str = "END OF TERMS AND CONDITIONS";
    let begin =
        words.find("Version 2.0, January 2004").and_then(|it| words[..it].rfind("Apache License"));
    let end = words.find(END).map(|it| it + END.len());
    match (begin, end) {
        (Some(begin), Some(end)) if begin < end => {
            format!("{}{APACHE}{}", words[..begin].trim_end_matches(' '), &words[end..])
        }
        _ => words.to_owned(),
    }
}

/// The texts that a crate brings along, with their files' names in capitals.
fn texts(manifest: &Path) -> Result<Vec<(String, String)>, Trouble> {
    let Some(folder) = manifest.parent() else { return Ok(Vec::new()) };
    let failed = |source| Trouble::File(folder.display().to_string(), source);
    let mut names = Vec::new();
    for entry in fs::read_dir(folder).map_err(failed)? {
        let entry = entry.map_err(failed)?;
        let upper = entry.file_name().to_string_lossy().to_uppercase();
        let counts = ["LICENSE", "LICENCE", "COPYING", "COPYRIGHT", "NOTICE", "UNLICENSE"];
        if counts.iter().any(|it| upper.starts_with(it)) && entry.path().is_file() {
            names.push((upper, entry.path()));
        }
    }
    names.sort();
    let read = |(name, path)| Ok((name, fs::read_to_string(path).map_err(failed)?));
    names.into_iter().map(read).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn of_alternatives_one_is_enough_and_of_conditions_all_count() {
        for fine in
            ["MIT", "MIT/Apache-2.0", "Unlicense OR MIT", "(MIT OR Apache-2.0) AND Unicode-3.0"]
        {
            assert!(acceptable(fine), "{fine}");
        }
        for foul in ["", "GPL-3.0", "MIT AND GPL-2.0-only", "LGPL-2.1 OR MPL-2.0"] {
            assert!(!acceptable(foul), "{foul}");
        }
    }

    #[test]
    fn the_apache_license_is_pointed_to_and_what_is_the_crates_own_stays() {
        let text = "Mine\n   Apache License\n   Version 2.0, January 2004\n terms\n\
                    END OF TERMS AND CONDITIONS\n\nCopyright: somebody\n";
        let short = pointed(text);
        assert!(short.starts_with("Mine\nApache License, Version 2.0: https://"), "{short}");
        assert!(
            short.ends_with("\n\nCopyright: somebody\n") && !short.contains("January"),
            "{short}"
        );
        assert_eq!(pointed("Permission is hereby granted"), "Permission is hereby granted");
    }

    fn crates(terms: &str) -> Value {
        let package = |name: &str, kind: &str| {
            json!({
                "id": name, "name": name, "version": "1.0.0", "license": terms, "source": "registry",
                "manifest_path": format!("{}/Cargo.toml", env!("CARGO_MANIFEST_DIR")),
                "targets": [{ "kind": [kind] }],
            })
        };
        let uses =
            |name: &str, kind: Value| json!({ "pkg": name, "dep_kinds": [{ "kind": kind }] });
        json!({
            "packages": [
                package("tipstaff", "bin"), package("used", "lib"), package("deeper", "lib"),
                package("tried", "lib"), package("derived", "proc-macro"),
            ],
            "resolve": { "nodes": [
                { "id": "tipstaff", "deps": [
                    uses("used", Value::Null), uses("tried", json!("dev")), uses("derived", Value::Null),
                ] },
                { "id": "used", "deps": [uses("deeper", Value::Null)] },
                { "id": "deeper", "deps": [] },
                { "id": "tried", "deps": [] },
                { "id": "derived", "deps": [] },
            ] },
        })
    }

    #[test]
    fn what_is_linked_is_named_and_nothing_else() {
        let text = text(&crates("MIT"), "a machine").expect("notices");
        assert!(
            text.contains("used 1.0.0: MIT\n") && text.contains("deeper 1.0.0: MIT\n"),
            "{text}"
        );
        assert!(!text.contains("tried") && !text.contains("derived"), "{text}");
    }

    #[test]
    fn terms_that_are_not_accepted_stop_the_package() {
        let trouble = text(&crates("GPL-3.0"), "a machine").expect_err("a refusal");
        assert!(trouble.to_string().contains("GPL-3.0"), "{trouble}");
    }
}
