//! `facts` as text: what a machine told, and how all of it is handed over.

use super::{Cell, Screen, Style, Table};
use tipstaff_app::facts::Report;

/// How much was told of what.
pub fn facts(report: &Report, screen: &Screen) -> String {
    let mut table = Table::new(["", "told"]);
    for it in &report.asked {
        let told = match (it.told, &it.refused) {
            (Some(count), _) => Cell::plain(count.to_string()),
            (None, Some(why)) => Cell::new("refused", Style::Mixed).line(why.clone(), Style::Faint),
            (None, None) => Cell::new("refused", Style::Mixed),
        };
        table.row(vec![Cell::plain(it.about), told]);
    }
    let option = if report.masked { "--mask " } else { "" };
    let addresses = if report.masked {
        "Addresses in it are others; names of hosts, users, programs and rules stay."
    } else {
        "Addresses and names in it are this machine's; --mask puts other addresses there."
    };
    format!(
        "{}\n{addresses}\nTo hand all of it over, and to read it before:\n  \
         tipstaff facts {option}--format json > facts.json\n",
        table.render(screen)
    )
}
