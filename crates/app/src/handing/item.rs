//! What is handed on, and what all who take it have in common.

use crate::watch::Decision;
use std::io;
use std::time::Duration;

/// How long one attempt may take.
pub(super) const PATIENCE: Duration = Duration::from_secs(5);

/// What is handed on.
pub(super) enum Item {
    Decision(Box<Decision>),
    /// So many decisions came too fast to be seen, or found no room here.
    Missed(u64),
}

/// Takes items away; what was not taken is offered again.
pub(super) trait Taker: Send {
    fn take(&mut self, items: &[Item]) -> io::Result<()>;
}

/// A decision in a sentence.
pub(super) fn sentence(item: &Item) -> String {
    match item {
        Item::Missed(1) => "one decision was not seen".into(),
        Item::Missed(count) => format!("{count} decisions were not seen"),
        Item::Decision(it) => format!(
            "{} {} {} from {} to {} by {}",
            it.verdict.as_str(),
            it.direction.as_str(),
            it.traffic,
            it.from,
            it.to,
            it.by.as_deref().unwrap_or("an unknown rule")
        ),
    }
}

/// The parts of a decision, by name.
pub(super) fn parts(item: &Item) -> Vec<(&'static str, String)> {
    match item {
        Item::Missed(count) => vec![("not_seen", count.to_string())],
        Item::Decision(it) => {
            let mut parts = vec![
                ("verdict", it.verdict.as_str().to_owned()),
                ("direction", it.direction.as_str().to_owned()),
                ("from", it.from.to_string()),
                ("to", it.to.to_string()),
                ("traffic", it.traffic.clone()),
                ("time", it.time.clone()),
            ];
            parts.extend(it.by.clone().map(|by| ("rule", by)));
            parts.extend(it.source_port.map(|port| ("source_port", port.to_string())));
            parts.extend(it.places.first().cloned().map(|place| ("place", place)));
            parts.extend(it.in_interface.clone().map(|name| ("in_interface", name)));
            parts.extend(it.out_interface.clone().map(|name| ("out_interface", name)));
            parts
        }
    }
}

/// How grave it is, as a number of RFC 5424 section 6.2.1: what was not seen is a warning, what was turned away a
/// notice, the rest is informational.
pub(super) fn severity(item: &Item) -> u8 {
    match item {
        Item::Missed(_) => 4,
        Item::Decision(it) if it.verdict.as_str() == "allow" => 6,
        Item::Decision(_) => 5,
    }
}
