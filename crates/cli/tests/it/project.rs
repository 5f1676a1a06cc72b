//! The project's own promises: its layers, its pages.

use crate::harness::{Desk, MENDED};
use serde_json::{Value, json};
use std::fs;
use std::path::{Path, PathBuf};
use tipstaff_core::policy::{Code, SCHEMA, Shape, TableSpec};

const ROOT: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../..");
const BEGIN: &str = "<!-- the help texts: made from the program -->\n";
const END: &str = "<!-- end of the help texts -->\n";

fn sources(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).expect("a folder").flatten() {
        let path = entry.path();
        if path.is_dir() {
            sources(&path, found);
        } else if path.extension().is_some_and(|it| it == "rs") {
            found.push(path);
        }
    }
}

fn depends(name: &str) -> Vec<String> {
    let manifest = format!("{ROOT}/crates/{name}/Cargo.toml");
    let text = fs::read_to_string(manifest).expect("a manifest");
    let section = text.split("[dependencies]").nth(1).expect("a section");
    let section = section.split("\n[").next().expect("its text");
    let lines = section.lines().filter_map(|line| line.split(['.', ' ', '=']).next());
    lines.filter(|name| !name.is_empty()).map(str::to_owned).collect()
}

#[test]
fn each_crate_uses_only_those_above_it() {
    let ours = |name: &str| {
        let mut found: Vec<String> =
            depends(name).into_iter().filter(|it| it.starts_with("tipstaff")).collect();
        found.sort();
        found
    };
    assert_eq!(ours("core"), [] as [&str; 0]);
    assert_eq!(ours("wire"), [] as [&str; 0]);
    assert_eq!(ours("linux"), ["tipstaff-core", "tipstaff-wire"]);
    assert_eq!(ours("sealed"), ["tipstaff-core"]);
    assert_eq!(ours("app"), ["tipstaff-core", "tipstaff-linux", "tipstaff-sealed"]);
    assert_eq!(ours("cli"), ["tipstaff-app", "tipstaff-core", "tipstaff-linux"]);
    let text =
        fs::read_to_string(format!("{ROOT}/packaging/writer/Cargo.toml")).expect("a manifest");
    assert!(text.contains("\ntipstaff.workspace") && !text.contains("tipstaff-"), "{text}");
}

#[test]
fn the_core_and_the_codecs_touch_nothing_outside() {
    let forbidden = [
        "std::fs",
        "std::env",
        "std::io",
        "std::process",
        "std::thread",
        "SystemTime",
        "Instant",
        "TcpStream",
        "UdpSocket",
        "println!",
        "eprintln!",
        "print!",
        "unsafe {",
    ];
    for name in ["core", "wire"] {
        let mut files = Vec::new();
        sources(Path::new(&format!("{ROOT}/crates/{name}/src")), &mut files);
        assert!(files.len() > 10, "only {} sources found", files.len());
        for file in files {
            let text = fs::read_to_string(&file).expect("text");
            for word in forbidden {
                assert!(!text.contains(word), "{} uses {word}", file.display());
            }
        }
    }
}

#[test]
fn what_is_sealed_is_computed_from_bytes() {
    let forbidden =
        ["std::fs", "std::env", "std::process", "std::thread", "SystemTime", "Instant", "println!"];
    let mut files = Vec::new();
    sources(Path::new(&format!("{ROOT}/crates/sealed/src")), &mut files);
    assert!(files.len() > 5, "only {} sources found", files.len());
    for file in files {
        let text = fs::read_to_string(&file).expect("text");
        for word in forbidden {
            assert!(!text.contains(word), "{} uses {word}", file.display());
        }
    }
}

#[test]
fn the_use_cases_know_no_command_line() {
    let forbidden =
        ["println!", "eprintln!", "print!", "clap", "process::exit", "ExitCode", "stdout()"];
    let mut files = Vec::new();
    sources(Path::new(&format!("{ROOT}/crates/app/src")), &mut files);
    assert!(files.len() > 40, "only {} sources found", files.len());
    for file in files {
        let text = fs::read_to_string(&file).expect("text");
        for word in forbidden {
            assert!(!text.contains(word), "{} uses {word}", file.display());
        }
    }
    assert!(depends("app").iter().all(|it| !it.starts_with("clap") && !it.starts_with("ansty")));
}

#[test]
fn use_cases_and_commands_come_to_the_machine_by_its_door() {
    // The state folder's own questions are none of it: this boot, the caller, the process that watches over a change.
    let others = ["boot_id", "/proc/self/", "/proc/{pid}/stat"];
    for name in ["app", "cli"] {
        let mut files = Vec::new();
        sources(Path::new(&format!("{ROOT}/crates/{name}/src")), &mut files);
        assert!(files.len() > 40, "{name} has sources");
        for file in files {
            let text = fs::read_to_string(&file).expect("a source file");
            for line in text.lines() {
                let asks = line.contains("NetlinkSocket::open")
                    || ["\"/proc/", "\"/sys/", "\"/etc/passwd"].iter().any(|it| line.contains(it))
                        && line.contains("fs::")
                        && !others.iter().any(|it| line.contains(it));
                assert!(!asks, "{}: {line}", file.display());
            }
        }
    }
}

#[test]
fn unsafe_code_stays_in_its_place() {
    for name in ["linux", "sealed", "app", "cli"] {
        let mut files = Vec::new();
        sources(Path::new(&format!("{ROOT}/crates/{name}/src")), &mut files);
        for file in files.iter().filter(|it| !it.to_string_lossy().contains("/linux/src/sys/")) {
            let text = fs::read_to_string(file).expect("text");
            assert!(!text.contains("unsafe {"), "{} has unsafe code", file.display());
        }
    }
}

/// Every command that people may use, as it is called, in the order of the help.
fn commands(command: &clap::Command, before: &str, names: &mut Vec<String>) {
    for part in command.get_subcommands().filter(|it| !it.is_hide_set() && it.get_name() != "help")
    {
        let name = format!("{before}{}", part.get_name());
        names.push(name.clone());
        commands(part, &format!("{name} "), names);
    }
}

/// `TIPSTAFF_BLESS=1` writes the texts anew.
#[test]
fn the_command_reference_is_what_the_program_says() {
    let desk = Desk::with(MENDED);
    let mut texts = String::new();
    let mut command = tipstaff_cli::command();
    command.build();
    let mut names = vec![String::new()];
    commands(&command, "", &mut names);
    assert!(names.len() > 40, "only {} commands", names.len());
    for command in names {
        let args: Vec<&str> =
            command.split(' ').chain(["--help"]).filter(|it| !it.is_empty()).collect();
        let mut run = desk.command(&args);
        run.env("COLUMNS", "90").env_remove("TIPSTAFF_POLICY").env_remove("TIPSTAFF_STATE");
        run.env_remove("TIPSTAFF_BOOT_NOTE");
        let help = crate::harness::finish(run).exits(0).stdout;
        let title = format!("tipstaff {command}");
        texts.push_str(&format!("\n### `{}`\n\n```text\n{}\n```\n", title.trim(), help.trim_end()));
    }
    texts.push('\n');
    let file = format!("{ROOT}/docs/COMMANDS.md");
    let page = fs::read_to_string(&file).expect("the page is there");
    let (before, rest) = page.split_once(BEGIN).expect("the beginning is marked");
    let (kept, after) = rest.split_once(END).expect("the end is marked");
    if std::env::var_os("TIPSTAFF_BLESS").is_some() {
        fs::write(file, format!("{before}{BEGIN}{texts}{END}{after}")).expect("written");
    } else {
        assert_eq!(kept, texts, "docs/COMMANDS.md is not what the program says");
    }
}

/// `TIPSTAFF_BLESS=1` writes the list anew.
#[test]
fn the_page_of_findings_has_every_kind() {
    const BEGIN: &str = "<!-- the findings: made from the program -->\n";
    const END: &str = "<!-- end of the findings -->\n";
    let desk = Desk::with(MENDED);
    let mut texts = String::new();
    for code in Code::ALL {
        let explain = ["--format", "json", "review", "--explain", code.as_str()];
        let report = desk.run(explain).exits(0).json();
        let meaning = report["meaning"].as_str().expect("a text");
        assert!(meaning.len() > 80, "{} is explained", code.as_str());
        texts.push_str(&format!("\n### `{}`\n\n{meaning}\n", code.as_str()));
    }
    texts.push('\n');
    let file = format!("{ROOT}/docs/FINDINGS.md");
    let page = fs::read_to_string(&file).expect("the page is there");
    let (before, rest) = page.split_once(BEGIN).expect("the beginning is marked");
    let (kept, after) = rest.split_once(END).expect("the end is marked");
    if std::env::var_os("TIPSTAFF_BLESS").is_some() {
        fs::write(file, format!("{before}{BEGIN}{texts}{END}{after}")).expect("written");
    } else {
        assert_eq!(kept, texts, "docs/FINDINGS.md is not what the program says");
    }
}

/// What a value of some shape looks like, in the words of JSON Schema.
fn form(shape: Shape, example: &str) -> Value {
    let text = || json!({ "type": "string" });
    let list = || json!({ "type": "array", "items": text(), "minItems": 1 });
    let table = |kind: &str| json!({ "$ref": format!("#/$defs/{kind}") });
    let mut form = match shape {
        Shape::Number => json!({ "const": 1 }),
        Shape::Text | Shape::Time => text(),
        Shape::Switch => json!({ "type": "boolean" }),
        Shape::List => list(),
        Shape::TextOrList => json!({ "anyOf": [text(), list()] }),
        Shape::Cap => json!({ "type": ["boolean", "string"] }),
        Shape::Words => json!({ "type": "object", "additionalProperties": text() }),
        Shape::ListOrWords => json!({ "anyOf": [
            list(),
            { "type": "object", "additionalProperties": text(), "minProperties": 1 },
        ] }),
        Shape::Table(kind) => table(kind),
        Shape::Named(kind) => json!({ "type": "object", "additionalProperties": table(kind) }),
        Shape::Tables(kind) => json!({ "type": "array", "items": table(kind) }),
    };
    if shape == Shape::Time {
        form["format"] = "date-time".into();
    }
    if let Ok(example) = serde_json::from_str::<Value>(example) {
        form["examples"] = json!([example]);
    }
    form
}

fn table_form(table: &TableSpec) -> Value {
    let mut properties = serde_json::Map::new();
    for key in table.keys {
        let mut form = form(key.shape, key.example);
        form["description"] = key.meaning.into();
        properties.insert(key.name.into(), form);
    }
    let required: Vec<&str> =
        table.keys.iter().filter(|it| it.required).map(|it| it.name).collect();
    json!({
        "type": "object",
        "description": table.meaning,
        "properties": properties,
        "required": required,
        "additionalProperties": false,
    })
}

/// Editors complete and check policies by a schema made from the table that reading uses.
#[test]
fn the_schema_for_editors_is_what_reading_uses() {
    let mut schema = table_form(SCHEMA.iter().find(|it| it.kind.is_empty()).expect("the file"));
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema".into();
    schema["title"] = "Tipstaff policy".into();
    let inner = SCHEMA.iter().filter(|it| !it.kind.is_empty());
    let inner: serde_json::Map<String, Value> =
        inner.map(|it| (it.kind.to_owned(), table_form(it))).collect();
    schema["$defs"] = inner.into();
    let text = format!("{}\n", serde_json::to_string_pretty(&schema).expect("a text"));
    let file = format!("{ROOT}/docs/policy.schema.json");
    if std::env::var_os("TIPSTAFF_BLESS").is_some() {
        fs::write(&file, &text).expect("written");
    }
    let kept = fs::read_to_string(&file).unwrap_or_default();
    assert!(kept == text, "docs/policy.schema.json is not what the reader's table says");
}

#[test]
fn the_policies_in_the_pages_can_be_read() {
    let readme = fs::read_to_string(format!("{ROOT}/README.md")).expect("text");
    let policy = readme.split("```toml\n").nth(1).expect("a policy").split("```").next();
    let desk = Desk::with(policy.expect("its text"));
    desk.run(["show"]).exits(0);
}
