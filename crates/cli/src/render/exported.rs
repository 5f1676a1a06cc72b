//! `export` and `adopt` as text: the document is the text, and what it lacks is said beside it.

use super::text::{clean, clean_json};
use super::{ColorWhen, Screen, Style, wrap};
use std::io::Write;
use tipstaff_app::exported::{Adopted, Report};
use tipstaff_app::whole_plan::{Document, Taken};

/// The document alone, to be saved.
pub fn lists(report: &Report, _: &Screen) -> String {
    if let Some(xml) = &report.xml {
        return xml.clone();
    }
    // A value always has a JSON form.
    let mut text = clean_json(&serde_json::to_string_pretty(&report.document).unwrap_or_default());
    text.push('\n');
    text
}

/// A plan's document, to be saved.
pub fn plan(document: &Document) -> String {
    // It always has a JSON form.
    let mut text = clean_json(&serde_json::to_string_pretty(document).unwrap_or_default());
    text.push('\n');
    text
}

/// What of a plan is not in the policy, and what is there for good.
pub fn nobody(report: &Taken) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    if let Some(posture) = &report.posture {
        lines.push(format!("the plan is that of posture {posture}: the policy says so always"));
    }
    lines.extend(
        report
            .nobody
            .iter()
            .map(|it| format!("{} ({}) is left out: it takes nothing", it.name, it.direction)),
    );
    lines
}

/// What the document does not say.
pub fn losses(report: &Report) -> Vec<String> {
    let loss = |it: &tipstaff_app::exported::Loss| {
        let done = if it.left_out { "is left out" } else { "keeps out more" };
        format!("{} ({}) {done}: lists cannot say {}", it.name, it.direction, it.what.join(", "))
    };
    let mut lines: Vec<String> = report.losses.iter().map(loss).collect();
    lines.push(
        "lists know no connections: whoever enforces these has to let replies pass, as the baseline does here"
            .to_owned(),
    );
    lines
}

/// What the policy does not say.
pub fn not_taken(report: &Adopted) -> Vec<String> {
    let not = |it: &tipstaff_app::exported::NotTaken| {
        let more = if it.keeps_out { "; without it, the policy may let in more" } else { "" };
        match it.list.as_str() {
            "" => format!("{} is not taken: {}", it.entry, it.why),
            list => format!("entry {} of {list} is not taken: {}{more}", it.entry, it.why),
        }
    };
    let mut lines: Vec<String> = report.not_taken.iter().map(not).collect();
    lines.extend(report.open_ended.iter().map(|it| {
        format!("{it} does not say what becomes of everything else: the policy denies it")
    }));
    lines
}

/// Says something beside the result.
pub fn remark(color: ColorWhen, lines: &[String]) {
    let screen = Screen::of_stderr(color);
    let lead = screen.paint(Style::Mixed, "note:");
    for line in lines {
        for part in wrap(&format!("{lead} {}", clean(line)), screen.width) {
            // Who does not see it sees it in JSON.
            let _ = writeln!(std::io::stderr().lock(), "{part}");
        }
    }
}
