//! `reach` for collectors of measurements.

use super::exposition::{Exposition, Kind};
use std::collections::HashSet;
use tipstaff_app::reach::{Entry, From, Report};
use tipstaff_app::vocabulary::{Sight, Word};

/// What is measured of how a listener is seen from a place, if it is known.
type Value = fn(&From) -> Option<bool>;

/// Who reaches what, as measurements. What is not known, or not the same for all of a place, is left out.
pub fn reach_metrics(report: &Report) -> String {
    let mut out = Exposition::of(&report.host);
    let families: [(&str, &str, Value); 4] = [
        ("reach_policy", "Whether the policy lets the place reach the port.", |it| word(it.policy)),
        ("reach_kernel", "Whether the kernel's rules do.", |it| word(it.kernel)),
        ("reach_open", "Whether a real connection from there was answered.", |it| {
            it.observed.filter(|it| *it != Sight::Partly).map(|it| it == Sight::Open)
        }),
        ("reach_agree", "Whether policy, kernel, copy and wire agree about it.", |it| it.agree),
    ];
    for (name, help, value) in families {
        out.family(name, Kind::Gauge, None, help);
        // Several sockets may share a port, and each series stands once.
        let mut told: HashSet<[String; 5]> = HashSet::new();
        for entry in &report.listeners {
            for from in &entry.from {
                let Some(is) = value(from) else { continue };
                let series = series(entry, from);
                if told.insert(series.clone()) {
                    let labels: Vec<(&str, &str)> =
                        LABELS.into_iter().zip(series.iter().map(String::as_str)).collect();
                    out.sample(name, &labels, u8::from(is));
                }
            }
        }
    }
    let help = "How much could not be found out.";
    out.gauge("reach_unknown", help, report.unknown.len() + usize::from(report.kernel_unreadable));
    out.end()
}

fn word(word: Word) -> Option<bool> {
    match word {
        Word::Allow => Some(true),
        Word::Deny | Word::Reject => Some(false),
        Word::Partly | Word::Unknown => None,
    }
}

/// What tells series apart.
const LABELS: [&str; 5] = ["port", "address", "program", "place", "version"];

fn series(entry: &Entry, from: &From) -> [String; 5] {
    let port = entry.published.clone().unwrap_or_else(|| entry.port.to_string());
    [
        format!("{port}/{}", entry.protocol),
        entry.address.clone(),
        entry.program.clone().unwrap_or_default(),
        from.place.clone(),
        from.version.to_string(),
    ]
}
