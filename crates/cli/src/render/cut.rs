//! `cut` as text.

use super::show::verdict_style;
use super::{Cell, Screen, Style, Table, clean};
use tipstaff_app::cut::Report;
use tipstaff_app::vocabulary::Direction;

/// What lives on, and what was ended.
pub fn cut(report: &Report, screen: &Screen) -> String {
    let host = clean(&report.host);
    let unknown: String = report
        .unknown
        .iter()
        .map(|it| format!("{} {}\n", screen.paint(Style::Mixed, "not known:"), clean(it)))
        .collect();
    if report.living.is_empty() {
        return format!(
            "{host}: no connection lives on that the policy would not admit\n{unknown}"
        );
    }
    let heading = format!("{host}: connections that the policy would not admit");
    let mut table = Table::new(["", "traffic", "from", "to", "the policy says"]);
    for living in &report.living {
        let (word, style) = match (living.own_session, living.ended) {
            (true, _) => ("your session", Style::Mixed),
            (false, Some(true)) => ("ended", Style::Closed),
            (false, Some(false)) => ("not ended", Style::Wrong),
            (false, None) => ("lives on", Style::Mixed),
        };
        let traffic = match living.direction {
            Direction::Inbound => living.traffic.clone(),
            direction => format!("{direction} {}", living.traffic),
        };
        table.row(vec![
            Cell::new(word, style),
            Cell::plain(traffic),
            Cell::plain(living.from.to_string()),
            Cell::plain(living.to.to_string()),
            Cell::new(living.verdict, verdict_style(living.verdict))
                .line(format!("({})", living.by), Style::Faint),
        ]);
    }
    let mut text = format!("{}\n{}", screen.paint(Style::Strong, &heading), table.render(screen));
    for living in &report.living {
        if let Some(why) = &living.why_not {
            let (from, traffic) = (living.from, &living.traffic);
            text.push_str(&format!("not ended: {traffic} from {from}: {}\n", clean(why)));
        }
    }
    text.push_str(&unknown);
    if !report.cut {
        text.push_str("\nThey began before, and go on. `tipstaff cut` ends them.\n");
    }
    text
}

#[cfg(test)]
mod tests {
    use super::{Report, Screen, cut};

    /// That nothing was found is not all there is to say where something could not be looked at.
    #[test]
    fn what_could_not_be_looked_at_is_said() {
        let unknown =
            vec!["what speaks sctp: the kernel refuses to list the sockets of sctp".into()];
        let report = Report { host: "sluice".into(), cut: false, living: Vec::new(), unknown };
        assert_eq!(
            cut(&report, &Screen::of_width(100)),
            "sluice: no connection lives on that the policy would not admit\n\
             not known: what speaks sctp: the kernel refuses to list the sockets of sctp\n"
        );
    }
}
