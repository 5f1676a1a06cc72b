//! The report as one page that needs nothing else.

use super::short;
use crate::render::came::{magnitude, note_of_bars};
use crate::render::clean;
use crate::render::posture::host_in;
use maud::{DOCTYPE, Markup, PreEscaped, html};
use tipstaff_app::report::{Cell, Matrix, Report, Row};
use tipstaff_app::show::{Direction, Line};
use tipstaff_app::vocabulary::{Reach, Severity, Verdict};
use tipstaff_app::{Came, Finding, grouped};

/// Light and dark by the reader's choice; on paper, words and borders carry what colours do.
pub(crate) const LOOK: &str = include_str!("page.css");

/// The report as a page.
pub fn page(report: &Report) -> String {
    let Report { policy, made, version, .. } = report;
    let host = host_in(&report.host, report.posture.as_deref());
    let page = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                meta name="color-scheme" content="light dark";
                title { (host) ": what can be reached, from where" }
                style { (PreEscaped(LOOK)) }
            }
            body {
                header {
                    h1 { (host) }
                    p.lead { (verdict(report)) }
                    p.made {
                        "Policy " code { (clean(policy)) } ". Made " time datetime=(made) { (made) }
                        " by Tipstaff " (version) "."
                    }
                }
                main {
                    section {
                        h2 { "What can be reached, from where" }
                        (matrix(&report.matrix))
                        (legend(report.matrix.came_within_seconds))
                    }
                    @if !report.disagreements.is_empty() {
                        section {
                            h2 { "Where the witnesses disagree" }
                            ul.bad { @for line in &report.disagreements { li { (clean(line)) } } }
                        }
                    }
                    section {
                        h2 { "What is probably not meant" }
                        (findings(&report.findings))
                    }
                    section {
                        h2 { "How it was checked" }
                        ul {
                            @for line in &report.checked { li { (clean(line)) } }
                            @for line in &report.unknown { li { b { "Not known: " } (clean(line)) } }
                        }
                    }
                    section {
                        h2 { "The decision list" }
                        p { "In each direction the first line that matches a packet decides." }
                        @for direction in &report.decisions.directions { (decisions(direction)) }
                    }
                }
            }
        }
    };
    page.into_string()
}

/// The report in one sentence.
fn verdict(report: &Report) -> Markup {
    let open: Vec<&Finding> = report.findings.iter().filter(|it| it.accepted.is_none()).collect();
    let count = |severity: Severity| open.iter().filter(|it| it.severity == severity).count();
    let wrong = count(Severity::Error) + count(Severity::Warning);
    html! {
        @if report.disagreements.is_empty() {
            span.mark.good { "witnesses agree" }
        } @else {
            span.mark.bad { (report.disagreements.len()) " disagreements" }
        }
        " "
        @match wrong {
            0 => span.mark.good { "nothing to mend" },
            1 => span.mark.warn { "1 thing to mend" },
            count => span.mark.warn { (count) " things to mend" },
        }
    }
}

fn matrix(matrix: &Matrix) -> Markup {
    let programs = matrix.rows.iter().any(|row| row.programs.is_some());
    let came = matrix.came_within_seconds.is_some();
    html! {
        div.wide {
            table.matrix {
                thead {
                    tr {
                        th scope="col" { "port" }
                        @if programs { th scope="col" { "program" } }
                        @if came { th scope="col" { "came" } }
                        @for place in &matrix.places { th scope="col" { (clean(place)) } }
                    }
                }
                tbody {
                    @for row in &matrix.rows {
                        tr {
                            th scope="row" {
                                (clean(&row.what))
                                @for meaning in &row.meanings { br; small { (clean(meaning)) } }
                            }
                            @if programs { td.program { (listeners(row)) } }
                            @if came { td.came { @if let Some(came) = &row.came { (bars(came)) } } }
                            @for met in &row.cells { (cell(met)) }
                        }
                    }
                }
            }
        }
    }
}

/// How many packets came, with bars whose length grows with the logarithm.
fn bars(came: &Came) -> Markup {
    let bar = |count: u64, class: &str, how: &str, senders: usize| {
        let width = format!("width: {}rem", magnitude(count));
        let from =
            if senders == 1 { "one sender".to_owned() } else { format!("{senders} senders") };
        html! {
            span.count title=(from) {
                span class=(format!("bar {class}")) style=(width) {}
                @if count == 0 { "none" } @else { (grouped(count)) } " " (how)
            }
        }
    };
    html! {
        @if let (Some(admitted), Some(senders)) = (came.admitted, came.admitted_senders) {
            (bar(admitted, "open", "admitted", senders))
        }
        (bar(came.denied, "silence", "denied", came.denied_senders))
    }
}

fn listeners(row: &Row) -> Markup {
    html! {
        @match row.programs.as_deref() {
            None => "",
            Some([]) => span.nobody { "nobody listens" },
            Some(programs) => {
                @for program in programs {
                    span title=(clean(program)) {
                        (clean(short(program)))
                    }
                    " "
                }
            }
        }
    }
}

fn cell(cell: &Cell) -> Markup {
    let kind = match cell.word {
        Reach::Nobody => "silence",
        word => word.as_str(),
    };
    // The direction goes without saying here: all of this is inbound.
    let short = |name: &str| clean(name.strip_suffix("/inbound").unwrap_or(name));
    let by = cell.by.iter().map(|it| short(it)).collect::<Vec<_>>().join(", ");
    let seen = cell.seen.iter().map(|it| clean(it)).collect::<Vec<_>>().join("\n");
    html! {
        td class=(kind) title=(seen) {
            @if cell.agree == Some(false) { b.bad { "! " } }
            span.word { (cell.word) }
            @for part in &cell.parts { span.part { (clean(part)) } }
            span.by { (by) }
            @if cell.agree == Some(false) { span.part { (seen) } }
        }
    }
}

/// A sentence, in which what stands between backticks is a name.
fn prose(text: &str) -> Markup {
    let text = clean(text);
    html! {
        @for (at, part) in text.split('`').enumerate() {
            @if at % 2 == 1 { code { (part) } } @else { (part) }
        }
    }
}

fn legend(came: Option<u32>) -> Markup {
    html! {
        dl.legend {
            div { dt.open { "open" } dd { "comes through" } }
            div { dt.rate { "rate" } dd { "comes through up to a rate" } }
            div { dt.refused { "refused" } dd { "is stopped, and told so" } }
            div { dt.silence { "silence" } dd { "is stopped without an answer" } }
            div { dt.partly { "partly" } dd { "not all senders fare alike" } }
        }
        p.small {
            "Below each word: who decides. "
            b { "anywhere" } ": everybody who is at none of the policy's places. "
            b { "!" } ": the witnesses disagree. "
            @if let Some(note) = note_of_bars(came) { (note) }
        }
    }
}

fn findings(findings: &[Finding]) -> Markup {
    html! {
        @if findings.is_empty() { p { "Nothing was found." } } @else {
            table.list {
                thead { tr { th { "weight" } th { "about" } th { "what" } th { "mend" } } }
                tbody {
                    @for finding in findings {
                        tr {
                            td class=(finding.severity) { (finding.severity) }
                            td {
                                b { (clean(&finding.subject)) }
                                @if let Some(origin) = &finding.origin { " " code { (clean(&origin.to_string())) } }
                            }
                            td {
                                (prose(&finding.message))
                                @if let Some(reason) = &finding.accepted {
                                    span.part { "accepted: " (clean(reason)) }
                                }
                            }
                            td { @if let Some(mend) = &finding.mend { code { (clean(mend)) } } }
                        }
                    }
                }
            }
        }
    }
}

fn decisions(direction: &Direction) -> Markup {
    // An empty column would only take room.
    let to = direction.decisions.iter().any(|line| line.to != "anywhere");
    html! {
        h3 { (direction.direction) }
        div.wide {
            table.list {
                thead {
                    tr {
                        th { "name" } th { "verdict" } th { "traffic" } th { "from" }
                        @if to { th { "to" } }
                        th { "why" }
                    }
                }
                tbody { @for line in &direction.decisions { (decision(line, to)) } }
            }
        }
    }
}

fn decision(line: &Line, to: bool) -> Markup {
    let kind = match (line.verdict, &line.rate) {
        _ if line.paused || line.ended => "idle",
        (Verdict::Allow, None) => "open",
        (Verdict::Allow, Some(_)) => "rate",
        (Verdict::Reject, _) => "refused",
        _ => "silence",
    };
    html! {
        tr class=(line.kind) {
            td { b { (clean(&line.name)) } }
            td class=(kind) {
                @if line.paused { "paused: " } @else if line.ended { "ended: " }
                (line.verdict)
                @if let Some(rate) = &line.rate { " " (clean(rate)) }
                @if let Some(until) = &line.until { span.part { "until " (clean(until)) } }
            }
            td { (clean(&line.traffic)) }
            td { (clean(&line.from)) }
            @if to { td { (clean(&line.to)) } }
            td { (prose(line.why.as_deref().unwrap_or_default())) }
        }
    }
}
