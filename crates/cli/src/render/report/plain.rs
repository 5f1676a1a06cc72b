//! The report as Markdown (CommonMark with tables).

use crate::render::posture::host_in;
use crate::render::{came, clean};
use tipstaff_app::report::Report;
use tipstaff_app::show::Direction;

/// The report as Markdown.
pub fn markdown(report: &Report) -> String {
    let mut text = format!(
        "# {}: what can be reached, from where\n\nMade {} by Tipstaff {} from {}.\n\n",
        escaped(&host_in(&report.host, report.posture.as_deref())),
        report.made,
        report.version,
        escaped(&report.policy)
    );
    let places = report.matrix.places.iter().map(|it| escaped(it));
    let came = report.matrix.came_within_seconds;
    let titles = ["port", "program"].into_iter().chain(came.is_some().then_some("came"));
    let titles: Vec<String> = titles.map(str::to_owned).chain(places).collect();
    table_line(&mut text, &titles);
    table_line(&mut text, &vec!["---".to_owned(); titles.len()]);
    for row in &report.matrix.rows {
        let programs = match row.programs.as_deref() {
            None => String::new(),
            Some([]) => "nobody listens".into(),
            Some(programs) => escaped(&programs.join(", ")),
        };
        let meanings: String = row.meanings.iter().map(|it| format!("; {}", escaped(it))).collect();
        let mut cells = vec![format!("**{}**{meanings}", escaped(&row.what)), programs];
        cells.extend(came.is_some().then(|| row.came.as_ref().map(came::said).unwrap_or_default()));
        cells.extend(row.cells.iter().map(|cell| {
            let mark = if cell.agree == Some(false) { "! " } else { "" };
            let parts: String = cell.parts.iter().map(|it| format!("; {}", escaped(it))).collect();
            format!("{mark}{}{parts}", cell.word)
        }));
        table_line(&mut text, &cells);
    }
    if let Some(note) = came::note(came) {
        text.push_str(&format!("\n{}\n", escaped(&note)));
    }
    text.push_str("\n## How it was checked\n\n");
    for line in &report.checked {
        text.push_str(&format!("- {}\n", escaped(line)));
    }
    for line in &report.unknown {
        text.push_str(&format!("- not known: {}\n", escaped(line)));
    }
    if !report.disagreements.is_empty() {
        text.push_str("\n## Where the witnesses disagree\n\n");
        for line in &report.disagreements {
            text.push_str(&format!("- {}\n", escaped(line)));
        }
    }
    if !report.findings.is_empty() {
        text.push_str("\n## What is probably not meant\n\n");
        for finding in &report.findings {
            let accepted = finding.accepted.as_ref();
            let accepted = accepted.map(|it| format!(" (accepted: {it})")).unwrap_or_default();
            let words =
                format!("{} {}: {}{accepted}", finding.severity, finding.subject, finding.message);
            text.push_str(&format!("- {}\n", escaped(&words)));
        }
    }
    for direction in &report.decisions.directions {
        decisions(&mut text, direction);
    }
    text
}

fn decisions(text: &mut String, direction: &Direction) {
    text.push_str(&format!("\n## Decisions, {}\n\n", direction.direction));
    let titles = ["name", "verdict", "traffic", "from", "to", "why"].map(str::to_owned);
    table_line(text, &titles);
    table_line(text, &vec!["---".to_owned(); titles.len()]);
    for line in &direction.decisions {
        let rate = line.rate.as_ref().map(|it| format!(" {it}")).unwrap_or_default();
        let idle = if line.paused {
            "paused: "
        } else if line.ended {
            "ended: "
        } else {
            ""
        };
        let cells = [
            escaped(&line.name),
            escaped(&format!("{idle}{}{rate}", line.verdict)),
            escaped(&line.traffic),
            escaped(&line.from),
            escaped(&line.to),
            escaped(line.why.as_deref().unwrap_or_default()),
        ];
        table_line(text, &cells);
    }
}

fn table_line(text: &mut String, cells: &[String]) {
    text.push_str(&format!("| {} |\n", cells.join(" | ")));
}

/// Takes from every sign the meaning that Markdown gives it.
fn escaped(text: &str) -> String {
    let mut out = String::new();
    for char in clean(text).chars() {
        if "\\`*_{}[]<>#|&!~".contains(char) {
            out.push('\\');
        }
        out.push(char);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::escaped;

    #[test]
    fn nothing_from_outside_becomes_markup() {
        assert_eq!(escaped("a|b<i>*c*\n"), "a\\|b\\<i\\>\\*c\\*\\\\n");
    }
}
