//! `baseline`: what keeps a host's network working.

use super::complete::postures;
use super::context::Context;
use super::output::Output;
use super::values::text_of;
use super::whose::Whose;
use clap::{Args, ValueEnum};
use clap_complete::ArgValueCandidates as Names;
use tipstaff_app::Failure;
use tipstaff_core::policy::edit::{Assignment, Entry, Target, Value, set_entries};

/// Whether a part of the baseline is there.
#[derive(Clone, Copy, Debug, ValueEnum)]
enum Switch {
    /// It is
    On,
    /// It is not
    Off,
}

/// Options of `baseline`.
#[derive(Debug, Args)]
pub struct Baseline {
    /// Echo requests: allow, deny, by-rules, or a rate such as 5/second
    #[arg(long, value_name = "PING")]
    ping: Option<String>,
    /// Traffic on the loopback interface is allowed
    #[arg(long, value_name = "SWITCH")]
    loopback: Option<Switch>,
    /// Loopback addresses from elsewhere are denied
    #[arg(long, value_name = "SWITCH")]
    false_loopback: Option<Switch>,
    /// What fits no connection is denied
    #[arg(long, value_name = "SWITCH")]
    invalid: Option<Switch>,
    /// Replies, and errors about what was allowed, are allowed
    #[arg(long, value_name = "SWITCH")]
    replies: Option<Switch>,
    /// Likewise for what leaves this machine; off: the rules decide about every packet that does
    #[arg(long, value_name = "SWITCH")]
    outbound_replies: Option<Switch>,
    /// Likewise for what passes through it
    #[arg(long, value_name = "SWITCH")]
    forwarded_replies: Option<Switch>,
    /// Neighbour discovery, MLD and IGMP are allowed
    #[arg(long, value_name = "SWITCH")]
    neighbours: Option<Switch>,
    /// What a DHCP client needs is allowed
    #[arg(long, value_name = "SWITCH")]
    dhcp: Option<Switch>,
    /// The posture of the host that it is about
    #[arg(long, value_name = "POSTURE", add = Names::new(postures), conflicts_with = "label")]
    posture: Option<String>,
    #[command(flatten)]
    whose: Whose,
}

impl Baseline {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let switch = |key: &'static str, on: Option<Switch>| {
            on.map(|it| (key, Some(Value::Switch(matches!(it, Switch::On)))))
        };
        let keys: Vec<Assignment> = [
            text_of("ping", self.ping.as_ref()),
            switch("loopback", self.loopback),
            switch("false-loopback", self.false_loopback),
            switch("invalid", self.invalid),
            switch("replies", self.replies),
            switch("outbound-replies", self.outbound_replies),
            switch("forwarded-replies", self.forwarded_replies),
            switch("neighbours", self.neighbours),
            switch("dhcp", self.dhcp),
        ]
        .into_iter()
        .flatten()
        .collect();
        if keys.is_empty() {
            return Err(Failure::usage(
                "no part of the baseline is to change",
                "name at least one, such as --ping by-rules or --dhcp off",
            ));
        }
        let words: Vec<&str> = keys.iter().map(|it| it.0).collect();
        let entries: Vec<Entry> =
            keys.iter().map(|(key, value)| ((*key).to_owned(), value.clone())).collect();
        let done = format!("baseline changed: {}", words.join(", "));
        self.whose.edit_in(context, self.posture.as_deref(), done, |sources, _, owner| {
            set_entries(sources, Target::Section(owner), "baseline", &entries, true)
        })
    }
}
