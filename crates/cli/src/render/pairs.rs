//! From host to host, as text.

use super::fleet::named;
use super::{Screen, Style, clean, wrap};
use tipstaff_app::fleet::{Expected, ExpectedBetween, FateOnWay, Matrix, Reached, WayWords};
use tipstaff_app::vocabulary::{Holds, Reaches, Verdict};
use tipstaff_app::{RegionWords, grouped};

/// Whether one host reaches another.
pub fn reached(report: &Reached, screen: &Screen) -> String {
    let (word, style) = match report.reaches {
        Reaches::Yes => ("yes:", Style::Good),
        Reaches::InPart => ("in part:", Style::Mixed),
        Reaches::No => ("no:", Style::Closed),
    };
    let about =
        format!("{} from {} to {}", clean(&report.traffic), clean(&report.from), clean(&report.to));
    let mut text = format!("{} {about}\n", screen.paint(style, word));
    if report.ways.is_empty() {
        let why = "no packet can go from the one to the other: of what is meant, they have no addresses of the same IP version";
        text.push_str(&format!("\n{}\n", wrap(why, screen.width).join("\n")));
    }
    for way in report.ways.iter().filter(|it| it.route.is_some() || !it.through.is_empty()) {
        let line = wrap(&way_line(way), screen.width).join("\n  ");
        text.push_str(&format!("\n{line}\n"));
    }
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

/// By whom they go.
fn way_line(way: &WayWords) -> String {
    let by = match &way.through[..] {
        [] => "directly".to_owned(),
        through => format!(
            "through {}",
            through.iter().map(|it| clean(it)).collect::<Vec<_>>().join(", then ")
        ),
    };
    let ends = way.region.as_ref().map(RegionWords::narrowed).unwrap_or_default();
    let who = if ends.is_empty() { String::new() } else { format!("{ends} ") };
    let route = way.route.as_ref().map(|it| format!(" ({})", clean(it))).unwrap_or_default();
    let why = way.why.as_ref().map(|it| format!(": {}", clean(it))).unwrap_or_default();
    format!("{who}{by}{route}{why}")
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

/// What must hold between hosts.
pub fn expected_between(report: &Expected, screen: &Screen) -> String {
    if report.expectations.is_empty() {
        return "nothing is expected between hosts: [[fleet.expect]] says so\n".into();
    }
    let told: Vec<String> = report.expectations.iter().map(|it| expectation(it, screen)).collect();
    told.join("\n")
}

fn expectation(it: &ExpectedBetween, screen: &Screen) -> String {
    let (word, style) = match it.holds {
        Holds::Yes => ("holds:", Style::Good),
        Holds::No => ("does not hold:", Style::Wrong),
        Holds::Unknown => ("not proven:", Style::Mixed),
    };
    let who = |terms: &[String]| match terms {
        [] => "all hosts".to_owned(),
        _ => terms.iter().map(|it| clean(it)).collect::<Vec<_>>().join(", "),
    };
    let traffic = it.traffic.iter().map(|it| clean(it)).collect::<Vec<_>>().join(", ");
    let within = match &it.within[..] {
        [] => String::new(),
        within => format!(", within {}", who(within)),
    };
    let what =
        format!("{} {traffic} from {} to {}{within}", it.verdict, who(&it.from), who(&it.to));
    let why = it.why.as_ref().map(|it| format!(": {}", clean(it))).unwrap_or_default();
    let head = format!("{} {what}{why}", screen.paint(style, word));
    let mut text = format!("{}\n", wrap(&head, screen.width).join("\n  "));
    let counts = match it.failing {
        0 => format!("proven for {} of hosts, every packet", pairs(it.proven)),
        _ => format!("not so for {} of hosts, so for {}", pairs(it.failing), it.proven),
    };
    text.push_str(&format!("  {counts} ({})\n", clean(&it.origin)));
    if !it.unknown.is_empty() {
        let line =
            format!("nothing is known of {}, whose addresses are not listed", named(&it.unknown));
        text.push_str(&format!("  {}\n", wrap(&line, screen.width.saturating_sub(2)).join("\n  ")));
    }
    for pair in &it.pairs {
        text.push_str(&format!("\n  from {} to {}\n", clean(&pair.from), clean(&pair.to)));
        if pair.fates.is_empty() {
            text.push_str("    no packet can go from the one to the other\n");
        }
        for fate in &pair.fates {
            let line = wrap(&met(fate), screen.width.saturating_sub(4)).join("\n      ");
            text.push_str(&format!("    {line}\n"));
        }
    }
    let listed = it.pairs.len();
    if listed < it.proven + it.failing {
        let more = pairs(it.proven + it.failing - listed);
        text.push_str(&format!("\n  and {more} more; --all tells of them\n"));
    }
    text
}

fn pairs(number: usize) -> String {
    let word = if number == 1 { "pair" } else { "pairs" };
    format!("{} {word}", grouped(number as u64))
}
