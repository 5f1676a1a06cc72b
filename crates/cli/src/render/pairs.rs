//! From host to host, as text.

use super::fleet::named;
use super::{Screen, Style, clean, wrap};
use tipstaff_app::fleet::{FateOnWay, Matrix, Reached};
use tipstaff_app::vocabulary::{Reaches, Verdict};

/// Whether one host reaches another.
pub fn reached(report: &Reached, screen: &Screen) -> String {
    let way = match &report.through[..] {
        [] => String::new(),
        through => format!(
            " through {}",
            through.iter().map(|it| clean(it)).collect::<Vec<_>>().join(", ")
        ),
    };
    let (word, style) = match report.reaches {
        Reaches::Yes => ("yes:", Style::Good),
        Reaches::InPart => ("in part:", Style::Mixed),
        Reaches::No => ("no:", Style::Closed),
    };
    let about = format!(
        "{} from {} to {}{way}",
        clean(&report.traffic),
        clean(&report.from),
        clean(&report.to)
    );
    let mut text = format!("{} {about}\n", screen.paint(style, word));
    for fate in &report.fates {
        text.push_str(&format!("\n{}\n", wrap(&met(fate), screen.width).join("\n")));
        for region in &fate.regions {
            // From and to all addresses of both goes without saying.
            let line = format!("{} {}", region.traffic, region.narrowed());
            let line = wrap(&clean(line.trim_end()), screen.width.saturating_sub(2)).join("\n    ");
            text.push_str(&format!("  {line}\n"));
        }
    }
    text
}

/// What they meet, host by host.
fn met(fate: &FateOnWay) -> String {
    let by: Vec<String> = fate
        .by
        .iter()
        .map(|it| format!("{} {} ({})", it.host, it.direction, clean(&it.by.name)))
        .collect();
    let end = match fate.verdict {
        Verdict::Allow => "arrives",
        Verdict::Deny => "is denied",
        Verdict::Reject => "is rejected",
    };
    let rate = fate.rate.as_ref().map(|it| format!(" up to {it}")).unwrap_or_default();
    format!("{end}{rate}: {}", by.join(", then "))
}

/// Who reaches whom.
pub fn matrix(report: &Matrix, screen: &Screen) -> String {
    let heading = format!("{}: who reaches whom", clean(&report.traffic));
    let mut text = format!("{}\n", screen.paint(Style::Strong, &heading));
    for row in &report.rows {
        text.push_str(&format!(
            "\n{}\n",
            wrap(&format!("from {}", named(&row.from)), screen.width).join("\n")
        ));
        for (word, hosts, style) in [
            ("yes", &row.yes, Style::Good),
            ("in part", &row.in_part, Style::Mixed),
            ("no", &row.no, Style::Closed),
        ] {
            if !hosts.is_empty() {
                let line =
                    wrap(&named(hosts), screen.width.saturating_sub(11)).join("\n           ");
                text.push_str(&format!(
                    "  {}  {line}\n",
                    screen.paint(style, &format!("{word:<7}"))
                ));
            }
        }
    }
    if !report.without_addresses.is_empty() {
        let line = format!(
            "left out, since their addresses are not listed: {}",
            named(&report.without_addresses)
        );
        text.push_str(&format!("\n{}\n", wrap(&line, screen.width).join("\n")));
    }
    text
}
