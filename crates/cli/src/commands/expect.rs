//! `expect`: what must hold whatever the rules are.

use super::complete::{places, postures};
use super::context::Context;
use super::direction::DirectionWord;
use super::output::Output;
use super::values::{list_of, text_of};
use super::whose::Whose;
use crate::render;
use clap::{Args, Subcommand};
use clap_complete::ArgValueCandidates as Names;
use tipstaff_app::{Failure, Outcome, expected};
use tipstaff_core::policy::edit::{Assignment, ListEdit, Value, edit_expectations};

/// What can be done to expectations.
#[derive(Debug, Subcommand)]
pub enum Expect {
    /// State what must hold; `review` proves it for every packet, and each change says if it breaks it
    Add(Box<Added>),
    /// Take a statement back
    Remove(Gone),
    /// List them, and whether they hold
    List,
}

/// Options of `expect add`.
#[derive(Debug, Args)]
pub struct Added {
    /// What all of it must meet: allow, deny or reject
    verdict: String,
    /// The traffic that it is about, such as 5432/tcp
    #[arg(required = true)]
    traffic: Vec<String>,
    /// Which way it goes
    #[arg(long, value_enum)]
    direction: Option<DirectionWord>,
    /// Senders, as for a rule
    #[arg(long, value_name = "PLACE|ADDRESS", num_args = 1.., add = Names::new(places))]
    from: Vec<String>,
    /// Receivers, likewise
    #[arg(long, value_name = "PLACE|ADDRESS", num_args = 1.., add = Names::new(places))]
    to: Vec<String>,
    /// Only what comes in by these interfaces; `!` ahead of a single one: by all others
    #[arg(long, value_name = "INTERFACE", num_args = 1..)]
    ingress: Vec<String>,
    /// Only what goes out by these interfaces, likewise
    #[arg(long, value_name = "INTERFACE", num_args = 1..)]
    egress: Vec<String>,
    /// Only what address translation led here from these ports, which callers see, such as 8088/tcp
    #[arg(long, value_name = "PORTS", num_args = 1..)]
    published: Vec<String>,
    /// About every packet, also those of connections that there are; else about first packets
    #[arg(long)]
    every_packet: bool,
    /// Parts of the baseline whose packets it is not about
    #[arg(long, value_name = "PART", num_args = 1.., value_parser = ["dhcp", "neighbours"])]
    besides: Vec<String>,
    /// The postures in which it must hold; also `none` (if left out), and `always`
    #[arg(long, value_name = "POSTURE", num_args = 1.., add = Names::new(postures))]
    posture: Vec<String>,
    /// The reason, for readers
    #[arg(long, value_name = "TEXT")]
    why: Option<String>,
    #[command(flatten)]
    whose: Whose,
}

/// Options of `expect remove`.
#[derive(Debug, Args)]
pub struct Gone {
    /// Its number, as `expect list` shows it
    number: usize,
    #[command(flatten)]
    whose: Whose,
}

impl Added {
    fn assignments(&self) -> Vec<Assignment> {
        let direction = self.direction.map(|it| it.direction().as_str().to_owned());
        let keys = [
            list_of("traffic", &self.traffic),
            text_of("direction", direction.as_ref()),
            list_of("from", &self.from),
            list_of("to", &self.to),
            list_of("ingress", &self.ingress),
            list_of("egress", &self.egress),
            list_of("published", &self.published),
            self.every_packet.then_some(("every-packet", Some(Value::Switch(true)))),
            list_of("besides", &self.besides),
            list_of("posture", &self.posture),
            text_of("verdict", Some(&self.verdict)),
            text_of("why", self.why.as_ref()),
        ];
        keys.into_iter().flatten().collect()
    }
}

impl Expect {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let (edit, whose, done) = match self {
            Self::List => {
                let report = expected::report(&context.policy()?);
                let holds = report.expectations.iter().all(|it| it.holds);
                let outcome = if holds { Outcome::Fine } else { Outcome::Found };
                return Ok(context.shown(&report, outcome, render::expected));
            }
            Self::Add(it) => {
                let words = format!("expected: {} {}", it.verdict, it.traffic.join(", "));
                (ListEdit::Add(it.assignments()), &it.whose, words)
            }
            Self::Remove(it) => {
                let words = format!("not expected any more: number {}", it.number);
                (ListEdit::Remove(it.number), &it.whose, words)
            }
        };
        whose.edit(context, done, |sources, _, owner| edit_expectations(sources, owner, &edit))
    }
}
