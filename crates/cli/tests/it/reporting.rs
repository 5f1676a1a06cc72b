//! `report` in all its forms.

use crate::harness::{Desk, INHERITED};
use std::net::TcpListener;
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary};

/// The same text whenever and wherever it is made.
fn steady(text: &str) -> String {
    let mut words: Vec<String> = Vec::new();
    for line in text.lines() {
        let line = match line.find("20") {
            Some(at) if line[at..].len() >= 20 && line[at..].as_bytes()[10] == b'T' => {
                format!("{}TIME{}", &line[..at], &line[at + 20..])
            }
            _ => line.to_owned(),
        };
        words.push(line);
    }
    words.join("\n")
}

#[test]
fn the_matrix_reads_the_same_on_a_terminal_in_a_sheet_and_in_markdown() {
    let desk = Desk::with(INHERITED);
    let form = |format: &str| {
        let args = ["report", "--host", "sluice", "--format", format];
        steady(&desk.run(args).exits(1).stdout)
    };
    insta::assert_snapshot!("report_text", form("text"));
    insta::assert_snapshot!("report_csv", form("csv"));
    insta::assert_snapshot!("report_markdown", form("markdown"));
    let json = desk.run(["report", "--host", "sluice", "--format", "json"]).exits(1).json();
    assert_eq!(json["matrix"]["places"][0], "curators");
    assert_eq!(json["matrix"]["rows"][0]["cells"][0]["word"], "open");
    assert_eq!(json["disagreements"], serde_json::json!([]));
}

#[test]
fn the_page_needs_nothing_else_and_takes_nothing_from_outside_for_markup() {
    let odd = INHERITED.replace("The public catalogue", "<script>alert(1)</script> & more");
    let desk = Desk::with(odd);
    let args = ["report", "--host", "sluice", "--format", "html"];
    let page = desk.run(args).exits(1).stdout;
    assert!(page.starts_with("<!DOCTYPE html>"));
    assert!(page.contains("&lt;script&gt;alert(1)&lt;/script&gt; &amp; more"));
    for outside in ["<script", "http://", "https://", "src=", "@import", "url("] {
        assert!(!page.contains(outside), "{outside}");
    }
    for word in ["prefers-color-scheme: dark", "@media print", "witnesses agree", "443/tcp+udp"] {
        assert!(page.contains(word), "{word} is missing");
    }
    let wrong = desk.run(["show", "--host", "sluice", "--format", "html"]).exits(2);
    assert!(wrong.stderr.contains("only `report`"), "{}", wrong.stderr);
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
