//! `report` in all its forms.

use crate::harness::{Desk, INHERITED};
use std::net::TcpListener;
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary};

/// Small, so that it is soon rehearsed.
const SMALL: &str = r#"
edition = 1
[place.curators]
addresses = ["198.51.100.0/27", "2001:db8:51::/64"]
[service.fieldnotes.ports]
"22000/tcp+udp" = "Field notes"
[host.bench]
addresses = ["192.0.2.30"]
[[host.bench.rule]]
name = "notes"
allow = ["fieldnotes"]
from = ["curators"]
why = "Notes | and *more*"
[[host.bench.rule]]
name = "mail"
reject = ["25/tcp"]
"#;

/// The same text whenever it is made.
fn steady(text: &str) -> String {
    const TIME: usize = "2026-11-23T18:59:20Z".len();
    let is_time = |at: usize| {
        let word = text.as_bytes().get(at..at + TIME);
        word.is_some_and(|it| {
            it[0].is_ascii_digit() && (it[4], it[10], it[13], it[19]) == (b'-', b'T', b':', b'Z')
        })
    };
    let mut out = String::new();
    let mut skip = 0;
    for (at, char) in text.char_indices() {
        if at < skip {
            continue;
        }
        if is_time(at) {
            out.push_str("TIME");
            skip = at + TIME;
        } else {
            out.push(char);
        }
    }
    out
}

#[test]
fn the_matrix_reads_the_same_on_a_terminal_in_a_sheet_and_in_markdown() {
    let form = |desk: &Desk, host: &str, format: &str, exit: i32| {
        let args = ["report", "--host", host, "--format", format];
        steady(&desk.run(args).exits(exit).stdout)
    };
    let inherited = Desk::with(INHERITED);
    insta::assert_snapshot!("report_text", form(&inherited, "sluice", "text", 1));
    let small = Desk::with(SMALL);
    insta::assert_snapshot!("report_csv", form(&small, "bench", "csv", 0));
    insta::assert_snapshot!("report_markdown", form(&small, "bench", "markdown", 0));
    let json = small.run(["report", "--format", "json"]).exits(0).json();
    assert_eq!(json["matrix"]["places"][0], "curators");
    assert_eq!(json["matrix"]["rows"][0]["what"], "25/tcp");
    assert_eq!(json["matrix"]["rows"][0]["cells"][0]["word"], "refused");
    assert_eq!(json["disagreements"], serde_json::json!([]));
}

#[test]
fn the_page_needs_nothing_else_and_takes_nothing_from_outside_for_markup() {
    let odd = SMALL.replace("Notes | and *more*", "<script>alert(1)</script> & more");
    let desk = Desk::with(odd);
    let page = desk.run(["report", "--format", "html"]).exits(0).stdout;
    assert!(page.starts_with("<!DOCTYPE html>"));
    assert!(page.contains("&lt;script&gt;alert(1)&lt;/script&gt; &amp; more"));
    for outside in ["<script", "http://", "https://", "src=", "@import", "url("] {
        assert!(!page.contains(outside), "{outside}");
    }
    for word in ["prefers-color-scheme: dark", "@media print", "witnesses agree", "22000/tcp+udp"] {
        assert!(page.contains(word), "{word} is missing");
    }
    // Others cannot be written so, wherever on the line that is asked for.
    let wrong = desk.run(["show", "--format", "html"]).exits(2).stderr;
    assert!(wrong.contains("invalid value 'html'") && wrong.contains("text, json"), "{wrong}");
    let wrong = desk.run(["--format", "html", "show"]).exits(2).stderr;
    assert!(wrong.contains("`show` cannot be written as html"), "{wrong}");
    let help = desk.run(["show", "--help"]).exits(0).stdout;
    assert!(help.contains("json") && !help.contains("html"), "{help}");
}

#[test]
fn a_live_report_names_programs_and_what_each_witness_saw() {
    sealed("reporting::a_live_report_names_programs_and_what_each_witness_saw", || {
        let lab = street_sluice_granary();
        let sluice = lab.node("sluice").expect("there");
        let desk = Desk::with(INHERITED);
        let held = sluice
            .run(|| {
                let web = TcpListener::bind("[::]:443").expect("bound");
                let metrics = TcpListener::bind("[::]:9100").expect("bound");
                (web, metrics)
            })
            .expect("entered");
        let common = ["--host", "sluice"];
        desk.on(sluice, ["enforce", "--keep", "--even-if-locked-out"].iter().chain(&common))
            .exits(0);
        let street = lab.node("street").expect("there").namespace().file();
        let vantage = format!("curators=netns:{}", street.display());
        let args = ["report", "--live", "--format", "json", "--vantage", &vantage];
        let report = desk.on(sluice, args.iter().chain(&common)).exits(1).json();
        assert_eq!(report["disagreements"], serde_json::json!([]), "{report:#}");
        let rows = report["matrix"]["rows"].as_array().expect("a list");
        let row = |what: &str| {
            let found = rows.iter().find(|it| it["what"] == what);
            found.unwrap_or_else(|| panic!("no row {what} in {rows:#?}"))
        };
        let web = row("443/tcp");
        let own = std::env::current_exe().expect("a path");
        assert_eq!(web["programs"][0], own.display().to_string());
        let curators = &web["cells"][0];
        assert_eq!((&curators["word"], &curators["agree"]), (&"open".into(), &true.into()));
        assert_eq!(curators["seen"][0], "IPv4: kernel allow, copy open, real connection open");
        assert_eq!(row("22/tcp")["programs"], serde_json::json!([]), "nobody listens there");
        // A listener that no rule mentions has its row.
        assert_eq!(row("9100/tcp")["cells"][4]["word"], "silence");
        drop(held);
    });
}
