//! `defaults`: what happens where no rule decides.

use super::complete::postures;
use super::context::Context;
use super::output::Output;
use super::values::text_of;
use super::whose::Whose;
use clap::Args;
use clap_complete::ArgValueCandidates as Names;
use tipstaff_app::Failure;
use tipstaff_core::policy::edit::{Assignment, Entry, Target, Value, set_entries};

/// Options of `defaults`.
#[derive(Debug, Args)]
pub struct Defaults {
    /// For packets to the host: allow, deny or reject
    #[arg(long, value_name = "VERDICT")]
    inbound: Option<String>,
    /// For packets from the host
    #[arg(long, value_name = "VERDICT")]
    outbound: Option<String>,
    /// For packets through the host
    #[arg(long, value_name = "VERDICT")]
    forwarded: Option<String>,
    /// The posture of the host that it is about
    #[arg(long, value_name = "POSTURE", add = Names::new(postures), conflicts_with = "label")]
    posture: Option<String>,
    #[command(flatten)]
    whose: Whose,
}

impl Defaults {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let keys: Vec<Assignment> = [
            text_of("inbound", self.inbound.as_ref()),
            text_of("outbound", self.outbound.as_ref()),
            text_of("forwarded", self.forwarded.as_ref()),
        ]
        .into_iter()
        .flatten()
        .collect();
        let words: Vec<String> = keys
            .iter()
            .filter_map(|(key, value)| match value {
                Some(Value::Text(verdict)) => Some(format!("{key} {verdict}")),
                _ => None,
            })
            .collect();
        if keys.is_empty() {
            return Err(Failure::usage(
                "no default is to change",
                "name at least one of --inbound, --outbound and --forwarded",
            ));
        }
        let entries: Vec<Entry> =
            keys.iter().map(|(key, value)| ((*key).to_owned(), value.clone())).collect();
        let done = format!("defaults: {}", words.join(", "));
        self.whose.edit_in(context, self.posture.as_deref(), done, |sources, _, owner| {
            set_entries(sources, Target::Section(owner), "default", &entries, true)
        })
    }
}
