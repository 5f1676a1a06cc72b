//! `review` for tools that show findings beside the text: the Static Analysis Results Interchange Format (SARIF,
//! OASIS standard, version 2.1.0).

use super::text::clean_json;
use serde_json::{Value, json};
use std::collections::BTreeSet;
use tipstaff_app::Finding;
use tipstaff_app::review::Report;
use tipstaff_app::vocabulary as say;
use tipstaff_core::analysis::kinds;
use tipstaff_core::policy::Severity;

const SCHEMA: &str =
    "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json";

/// The review as one run of an analysis. Accepted findings are suppressed in the source, with the reason; what
/// could not be looked at is a notification of the run.
pub fn sarif(report: &Report) -> String {
    let known: Vec<_> = kinds().map(|it| it.0).collect();
    let found: BTreeSet<&str> = report.findings.iter().map(|it| it.code.as_str()).collect();
    let rules: Vec<_> = known.iter().filter(|it| found.contains(it.code.as_str())).collect();
    let results = report.findings.iter().map(|finding| {
        let code = finding.code.as_str();
        result(finding, rules.iter().position(|it| it.code.as_str() == code))
    });
    let unknown = report
        .unknown
        .iter()
        .map(|it| json!({ "level": "warning", "message": { "text": format!("not known: {it}") } }));
    let rule = |code: &str, severity: Severity, meaning: &str| {
        json!({
            "id": code,
            "fullDescription": { "text": meaning },
            "defaultConfiguration": { "level": say::Severity::from(severity).as_str() },
        })
    };
    let rules: Vec<Value> =
        rules.iter().map(|it| rule(it.code.as_str(), it.severity, it.meaning)).collect();
    let run = json!({
        "tool": { "driver": {
            "name": "tipstaff",
            "semanticVersion": env!("CARGO_PKG_VERSION"),
            "rules": rules,
        } },
        "invocations": [{
            "executionSuccessful": true,
            "toolExecutionNotifications": unknown.collect::<Vec<_>>(),
        }],
        "columnKind": "unicodeCodePoints",
        "properties": { "host": report.host, "posture": report.posture, "live": report.live },
        "results": results.collect::<Vec<_>>(),
    });
    let log = json!({ "$schema": SCHEMA, "version": "2.1.0", "runs": [run] });
    // A value of texts, numbers and lists always has a JSON form.
    let mut text = clean_json(&serde_json::to_string_pretty(&log).unwrap_or_default());
    text.push('\n');
    text
}

fn result(finding: &Finding, rule: Option<usize>) -> Value {
    let posture = finding.posture.as_ref().map(|it| format!(" in posture {it}"));
    let posture = posture.unwrap_or_default();
    let subject = format!("{}{posture}", finding.subject);
    let mut location = json!({ "logicalLocations": [{ "name": subject }] });
    if let Some(origin) = &finding.origin {
        location["physicalLocation"] = json!({
            "artifactLocation": { "uri": uri(&origin.file) },
            "region": { "startLine": origin.line },
        });
    }
    let code = finding.code.as_str();
    let suppressed = finding.accepted.iter();
    let suppressed = suppressed.map(|why| json!({ "kind": "inSource", "justification": why }));
    json!({
        "ruleId": code,
        "ruleIndex": rule,
        "level": finding.severity.as_str(),
        "message": { "text": format!("{subject}: {}", finding.message) },
        "locations": [location],
        // The same finding has the same wherever its lines move.
        "partialFingerprints": { "finding/v1": format!("{code} {subject} {}", finding.others.join(" ")) },
        "suppressions": suppressed.collect::<Vec<_>>(),
        "properties": { "mend": finding.mend, "witness": finding.witness, "others": finding.others },
    })
}

/// A file's name as a reference (RFC 3986): an absolute one with its scheme.
fn uri(file: &str) -> String {
    let mut uri = String::from(if file.starts_with('/') { "file://" } else { "" });
    for byte in file.bytes() {
        if byte.is_ascii_alphanumeric() || b"/-._~".contains(&byte) {
            uri.push(byte.into());
        } else {
            uri.push_str(&format!("%{byte:02X}"));
        }
    }
    uri
}

#[cfg(test)]
mod tests {
    use super::uri;

    #[test]
    fn files_are_told_as_references() {
        assert_eq!(uri("demo/mended.toml"), "demo/mended.toml");
        assert_eq!(uri("/etc/tipstaff/policy.toml"), "file:///etc/tipstaff/policy.toml");
        assert_eq!(uri("a b#%.toml"), "a%20b%23%25.toml");
        assert_eq!(uri("é"), "%C3%A9");
    }
}
