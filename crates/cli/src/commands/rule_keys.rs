//! The keys of a rule, as options.

use super::complete::places;
use super::direction::DirectionWord;
use super::span::moment;
use super::values::{list_of, text, text_of};
use clap::Args;
use clap_complete::ArgValueCandidates as Names;
use tipstaff_core::policy::edit::{Assignment, Value};

/// The keys of a rule.
#[derive(Debug, Args)]
pub struct Keys {
    /// Traffic that may pass, such as 443/tcp
    #[arg(long, value_name = "TRAFFIC", num_args = 1.., conflicts_with_all = ["deny", "reject"])]
    allow: Vec<String>,
    /// Traffic that is dropped in silence
    #[arg(long, value_name = "TRAFFIC", num_args = 1.., conflicts_with = "reject")]
    deny: Vec<String>,
    /// Traffic that is refused with an answer
    #[arg(long, value_name = "TRAFFIC", num_args = 1..)]
    reject: Vec<String>,
    /// Which way it goes
    #[arg(long, value_enum)]
    direction: Option<DirectionWord>,
    /// Senders: places and addresses; with ! in front, all but those
    #[arg(long, value_name = "PLACE|ADDRESS", num_args = 1.., add = Names::new(places))]
    from: Vec<String>,
    /// Receivers, likewise
    #[arg(long, value_name = "PLACE|ADDRESS", num_args = 1.., add = Names::new(places))]
    to: Vec<String>,
    /// Only at these of the host's own addresses
    #[arg(long, value_name = "ADDRESS", num_args = 1..)]
    at: Vec<String>,
    /// Only what comes in by these interfaces, by role or name
    #[arg(long, value_name = "INTERFACE", num_args = 1..)]
    ingress: Vec<String>,
    /// Only what goes out by these interfaces, by role or name
    #[arg(long, value_name = "INTERFACE", num_args = 1..)]
    egress: Vec<String>,
    /// Only from these ports
    #[arg(long, value_name = "PORTS", num_args = 1..)]
    source_ports: Vec<String>,
    /// Only what address translation led here from these ports, such as 8088/tcp
    #[arg(long, value_name = "PORTS", num_args = 1..)]
    published: Vec<String>,
    /// Only for sockets of these executables
    #[arg(long, value_name = "PATH", num_args = 1..)]
    program: Vec<String>,
    /// Only for sockets of these users, by name or number
    #[arg(long, value_name = "USER", num_args = 1..)]
    user: Vec<String>,
    /// How many new connections, such as "6/minute per source"
    #[arg(long, value_name = "RATE")]
    rate: Option<String>,
    /// Report the packets it takes; with a rate, at most so many
    #[arg(long, value_name = "RATE", num_args = 0..=1, default_missing_value = "")]
    log: Option<String>,
    /// When the rule ends by itself, such as 2026-12-24T18:00:00Z, or +2h from now
    #[arg(long, value_name = "TIME", value_parser = moment)]
    until: Option<String>,
    /// The reason, for readers
    #[arg(long, value_name = "TEXT")]
    why: Option<String>,
}

impl Keys {
    /// Those that were given.
    pub fn assignments(&self) -> Vec<Assignment> {
        let direction = self.direction.map(|it| it.direction().as_str().to_owned());
        let one_or_list = |key, values: &[String]| match values {
            [one] => Some((key, Some(text(one)))),
            several => list_of(key, several),
        };
        let log = self.log.as_ref().map(|cap| {
            let value = if cap.is_empty() { Value::Switch(true) } else { text(cap) };
            ("log", Some(value))
        });
        [
            list_of("allow", &self.allow),
            list_of("deny", &self.deny),
            list_of("reject", &self.reject),
            text_of("direction", direction.as_ref()),
            list_of("from", &self.from),
            list_of("to", &self.to),
            list_of("at", &self.at),
            list_of("ingress", &self.ingress),
            list_of("egress", &self.egress),
            list_of("source-ports", &self.source_ports),
            list_of("published", &self.published),
            one_or_list("program", &self.program),
            one_or_list("user", &self.user),
            text_of("rate", self.rate.as_ref()),
            log,
            text_of("until", self.until.as_ref()),
            text_of("why", self.why.as_ref()),
        ]
        .into_iter()
        .flatten()
        .collect()
    }
}

/// Keys without which a rule is still one.
pub const DROPPABLE: [&str; 13] = [
    "direction",
    "from",
    "to",
    "at",
    "ingress",
    "egress",
    "source-ports",
    "program",
    "user",
    "rate",
    "log",
    "until",
    "why",
];

/// The key of that name.
pub fn droppable(key: &str) -> Option<Assignment> {
    DROPPABLE.iter().find(|it| **it == key).map(|it| (*it, None))
}
