//! Expectations for tools that collect the results of tests: XML in the form that JUnit's reports have.

use super::text::clean;
use std::fmt::Write;
use tipstaff_app::expected::{Expectation, Report};
use tipstaff_app::review;
use tipstaff_core::policy::{Code, Time};

/// Each expectation as a test, which fails if some packet meets something else.
pub fn junit(report: &Report, reviewed: &review::Report, now: Time) -> String {
    let all = &report.expectations;
    let (tests, failures) = (all.len(), all.iter().filter(|it| !it.holds).count());
    let host = escaped(&report.host);
    // As the schema has it: without a zone.
    let time = now.to_string();
    let time = time.strip_suffix('Z').unwrap_or(&time);
    let mut out = String::from("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<testsuites>\n");
    // Writing to a text cannot fail.
    let _ = writeln!(
        out,
        "  <testsuite id=\"0\" package=\"tipstaff\" name=\"expectations of {host}\" hostname=\"{host}\" \
         timestamp=\"{time}\" tests=\"{tests}\" failures=\"{failures}\" errors=\"0\" time=\"0\">\n    \
         <properties/>"
    );
    for it in all {
        let head = format!(
            "    <testcase name=\"{}\" classname=\"{host}\" time=\"0\"",
            escaped(&name(it))
        );
        if it.holds {
            let _ = writeln!(out, "{head}/>");
            continue;
        }
        let mut found = reviewed.findings.iter().filter(|finding| {
            finding.code.0 == Code::ExpectationFailed && finding.origin.as_ref() == Some(&it.origin)
        });
        let message = found.next().map_or("it does not hold", |it| &it.message);
        let _ = writeln!(
            out,
            "{head}>\n      <failure type=\"{}\" message=\"{}\">{}</failure>\n    </testcase>",
            Code::ExpectationFailed.as_str(),
            escaped(message),
            escaped(&format!("written at {}", it.origin)),
        );
    }
    out.push_str("    <system-out/>\n    <system-err/>\n  </testsuite>\n</testsuites>\n");
    out
}

/// An expectation in a line: `inbound 5432/tcp from !10.44.8.10: deny`.
fn name(it: &Expectation) -> String {
    let mut name = format!("{} {}", it.direction, it.traffic.join(", "));
    let parts = [
        ("from", &it.from, ", "),
        ("to", &it.to, ", "),
        ("in by", &it.ingress, " or "),
        ("out by", &it.egress, " or "),
        ("published at", &it.published, ", "),
        ("besides", &it.besides, ", "),
        ("in posture", &it.postures, " or "),
    ];
    for (word, list, between) in parts {
        if !list.is_empty() {
            name.push_str(&format!(" {word} {}", list.join(between)));
        }
    }
    if it.every_packet {
        name.push_str(", every packet");
    }
    name.push_str(&format!(": {}", it.verdict));
    name
}

/// A text in an attribute or between tags (XML 1.0 section 2.4).
fn escaped(text: &str) -> String {
    let text = clean(text).replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
    text.replace('"', "&quot;")
}
