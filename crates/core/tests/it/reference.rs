//! The reference of the language is made from the table that reading uses.

use std::fmt::Write;
use tipstaff_core::policy::{SCHEMA, Shape, Source, read};

const FILE: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/LANGUAGE.md");
const BEGIN: &str = "<!-- the tables of the language: made from the schema -->\n";
const END: &str = "<!-- end of the tables -->\n";

fn tables() -> String {
    let mut text = String::new();
    for table in SCHEMA {
        let heading = match table.kind {
            "" => "The file".to_owned(),
            "place" | "service" | "bundle" | "label" => format!("`[{}.NAME]`", table.kind),
            "host" => "`[host.NAME]`".to_owned(),
            "expect" => "`[[host.NAME.expect]]` and `[[label.NAME.expect]]`".to_owned(),
            "posture" => "`[host.NAME.posture.POSTURE]`".to_owned(),
            "fleet" => "`[fleet]`".to_owned(),
            kind if kind.starts_with("fleet.") => format!("`[[{kind}]]`"),
            "rule" => "`[[host.NAME.rule]]`, `[[bundle.NAME.rule]]`, `[[label.NAME.rule]]`, \
                 `[[host.NAME.posture.POSTURE.rule]]`"
                .to_owned(),
            kind => format!(
                "`[host.NAME.{kind}]`, `[label.NAME.{kind}]`, `[host.NAME.posture.POSTURE.{kind}]`"
            ),
        };
        let _ = writeln!(text, "\n### {heading}\n\n{}.\n", table.meaning);
        let _ = writeln!(text, "| key | value | meaning | example |\n|---|---|---|---|");
        for key in table.keys {
            let needed = if key.required { ", needed" } else { "" };
            let example = match key.shape {
                Shape::Table(_) | Shape::Named(_) | Shape::Tables(_) => String::new(),
                _ => format!("`{}`", key.example),
            };
            let _ = writeln!(
                text,
                "| `{}` | {}{needed} | {} | {example} |",
                key.name,
                key.shape.describe(),
                key.meaning
            );
        }
    }
    text.push('\n');
    text
}

/// `TIPSTAFF_BLESS=1` writes the tables anew.
#[test]
fn the_reference_has_every_key() {
    let page = std::fs::read_to_string(FILE).expect("the page is there");
    let (before, rest) = page.split_once(BEGIN).expect("the beginning is marked");
    let (kept, after) = rest.split_once(END).expect("the end is marked");
    let tables = tables();
    if std::env::var_os("TIPSTAFF_BLESS").is_some() {
        let page = format!("{before}{BEGIN}{tables}{END}{after}");
        std::fs::write(FILE, page).expect("written");
    } else {
        assert_eq!(kept, tables, "docs/LANGUAGE.md is not what the schema says");
    }
}

/// Every example in the schema is a value that the reader takes.
#[test]
fn the_examples_of_the_reference_can_be_read() {
    let example = |table: &str, key: &str| {
        let table = SCHEMA.iter().find(|it| it.kind == table).expect("a table");
        table.key(key).expect("a key").example
    };
    let place = format!("[place.curators]\naddresses = {}\n", example("place", "addresses"));
    let mut text = format!("edition = {}\n{place}", example("", "edition"));
    text += &format!("why = {}\n", example("place", "why"));
    text += &format!("[host.sluice]\naddresses = {}\n", example("host", "addresses"));
    text += "[host.sluice.default]\n";
    for key in ["inbound", "outbound", "forwarded"] {
        text += &format!("{key} = {}\n", example("default", key));
    }
    text += &format!("[host.sluice.baseline]\nping = {}\n", example("baseline", "ping"));
    for verdict in ["allow", "deny", "reject"] {
        let name = example("rule", "name").replace('"', "");
        text += &format!("[[host.sluice.rule]]\nname = \"{name}-{verdict}\"\n");
        text += &format!("{verdict} = {}\n", example("rule", verdict));
        for key in ["direction", "from", "to", "program", "log", "until", "paused", "why"] {
            text += &format!("{key} = {}\n", example("rule", key));
        }
    }
    text += "[[host.sluice.expect]]\n";
    for key in ["traffic", "verdict", "direction", "from", "to"] {
        text += &format!("{key} = {}\n", example("expect", key));
    }
    assert!(read(&Source::new("example.toml", &text)).is_ok(), "{text}");
}
