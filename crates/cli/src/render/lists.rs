//! Short lists of what a host has: interfaces, expectations.

use super::show::verdict_style;
use super::{Cell, Screen, Style, Table, place};
use tipstaff_app::{expected, roles};

/// The interfaces of a host.
pub fn interfaces(report: &roles::Report, screen: &Screen) -> String {
    if report.interfaces.is_empty() {
        return format!("`{}` says of no interface what it is for\n", report.host);
    }
    let mut table = Table::new(["role", "interface", "rules that name it"]).spare(&[2]);
    for it in &report.interfaces {
        table.row(vec![
            Cell::new(&it.role, Style::Strong),
            Cell::plain(&it.interface),
            Cell::plain(it.rules.join(", ")),
        ]);
    }
    table.render(screen)
}

/// What is expected of a host.
pub fn expected(report: &expected::Report, screen: &Screen) -> String {
    if report.expectations.is_empty() {
        return format!("nothing is expected of `{}`\n", report.host);
    }
    let any = |part: &dyn Fn(&expected::Expectation) -> bool| report.expectations.iter().any(part);
    let (labels, to, why) =
        (any(&|it| it.label.is_some()), any(&|it| !it.to.is_empty()), any(&|it| it.why.is_some()));
    let mut titles = vec!["", "expected", "traffic", "from"];
    titles.extend(to.then_some("to"));
    titles.extend(labels.then_some("of the label"));
    let postures = any(&|it| !it.postures.is_empty());
    titles.extend(postures.then_some("in posture"));
    titles.push("holds");
    titles.extend(why.then_some("why"));
    titles.push("written at");
    let last = titles.len() - 1;
    let mut table = Table::new(titles).numbers(&[0]).spare(&[last]);
    for it in &report.expectations {
        let anywhere = |list: &[String]| match list {
            [] => "anywhere".to_owned(),
            list => list.join(", "),
        };
        let mut traffic = format!("{} {}", it.direction, it.traffic.join(", "));
        for (word, names) in [("in by", &it.ingress), ("out by", &it.egress)] {
            if !names.is_empty() {
                traffic.push_str(&format!(" {word} {}", names.join(" or ")));
            }
        }
        if !it.published.is_empty() {
            traffic.push_str(&format!(" published at {}", it.published.join(", ")));
        }
        if it.every_packet {
            traffic.push_str(", every packet");
        }
        if !it.besides.is_empty() {
            traffic.push_str(&format!(", besides {}", it.besides.join(", ")));
        }
        let mut row = vec![
            Cell::plain(it.number.to_string()),
            Cell::new(it.verdict, verdict_style(it.verdict)),
            Cell::plain(traffic),
            Cell::plain(anywhere(&it.from)),
        ];
        row.extend(to.then(|| Cell::plain(anywhere(&it.to))));
        row.extend(labels.then(|| Cell::plain(it.label.as_deref().unwrap_or_default())));
        row.extend(postures.then(|| {
            Cell::plain(match &it.postures[..] {
                [] => "none".to_owned(),
                list => list.join(", "),
            })
        }));
        row.push(match it.holds {
            true => Cell::plain("yes"),
            false => Cell::new("NO", Style::Wrong),
        });
        row.extend(why.then(|| Cell::plain(it.why.as_deref().unwrap_or_default())));
        row.push(Cell::new(place(Some(&it.origin)), Style::Faint));
        table.row(row);
    }
    table.render(screen)
}
