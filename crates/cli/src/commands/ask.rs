//! `ask`: what happens to a packet, or to whole regions of them.

use super::complete::{places, rules};
use super::context::Context;
use super::direction::DirectionWord;
use super::in_posture::InPosture;
use super::output::Output;
use crate::render;
use clap::{Args, ValueEnum};
use clap_complete::ArgValueCandidates as Names;
use tipstaff_app::{Failure, Outcome, ask, asked};
use tipstaff_core::space::ConnectionState;

/// Options of `ask`.
#[derive(Debug, Args)]
pub struct Ask {
    /// The sender's address
    #[arg(long, value_name = "ADDRESS")]
    pub from: Option<String>,
    /// The receiver's address; for inbound traffic the host's own if left out
    #[arg(long, value_name = "ADDRESS")]
    pub to: Option<String>,
    /// What is sent, such as 443/tcp, 53/udp or icmp (an echo request)
    #[arg(long, value_name = "TRAFFIC", required_unless_present_any = ["who", "what", "why"])]
    pub traffic: Option<String>,
    /// Instead: who can reach this traffic, such as 5432/tcp
    #[arg(long, value_name = "TRAFFIC", conflicts_with_all = ["from", "to", "traffic", "ingress", "egress", "what", "why"])]
    pub who: Option<String>,
    /// Instead: what this sender, or all of a place, can reach
    #[arg(long, value_name = "PLACE|ADDRESS", add = Names::new(places), conflicts_with_all = ["from", "to", "traffic", "ingress", "egress", "why"])]
    pub what: Option<String>,
    /// Instead: what this rule still decides after those above it
    #[arg(long, value_name = "RULE", add = Names::new(rules), conflicts_with_all = ["from", "to", "traffic", "ingress", "egress"])]
    pub why: Option<String>,
    /// The interface it comes in by, by role or name
    #[arg(long, value_name = "INTERFACE")]
    pub ingress: Option<String>,
    /// The interface it goes out by, by role or name
    #[arg(long, value_name = "INTERFACE")]
    pub egress: Option<String>,
    /// The program on this host that receives it (outbound: sends it), by absolute path
    #[arg(long, value_name = "PATH")]
    pub program: Option<String>,
    /// The user on this host whose socket receives it (outbound: sends it), by name or number
    #[arg(long, value_name = "USER")]
    pub user: Option<String>,
    /// The port that it comes from
    #[arg(long, value_name = "PORT", conflicts_with_all = ["who", "what", "why"])]
    pub source_port: Option<u16>,
    /// The port that it was sent to before address translation led it here; 0: it was not led
    #[arg(long, value_name = "PORT", conflicts_with_all = ["who", "what", "why", "live"])]
    pub published: Option<u16>,
    /// What connection tracking says of it; if left out, what it says of such a packet that comes alone
    #[arg(long, value_enum, conflicts_with_all = ["who", "what", "why"])]
    pub tracked: Option<StateWord>,
    /// Which way it goes
    #[arg(long, value_enum, default_value = "inbound")]
    pub direction: DirectionWord,
    /// Ask it of this machine: follow packets where rules of others lead them first
    #[arg(long, conflicts_with = "why")]
    pub live: bool,
    #[command(flatten)]
    pub in_posture: InPosture,
}

/// What connection tracking can say of a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum StateWord {
    /// The first of a flow
    New,
    /// Part of a flow that has been answered
    Established,
    /// Of another flow, such as an ICMP error about it
    Related,
    /// It fits no flow and cannot begin one
    Invalid,
    /// Not tracked, such as neighbour discovery
    Untracked,
}

impl StateWord {
    fn state(self) -> ConnectionState {
        match self {
            Self::New => ConnectionState::New,
            Self::Established => ConnectionState::Established,
            Self::Related => ConnectionState::Related,
            Self::Invalid => ConnectionState::Invalid,
            Self::Untracked => ConnectionState::Untracked,
        }
    }
}

impl Ask {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let direction = self.direction.direction();
        let live = self.live.then_some(context.machine);
        if let Some(traffic) = &self.traffic {
            let question = ask::Question {
                from: self.from.clone(),
                to: self.to.clone(),
                traffic: traffic.clone(),
                ingress: self.ingress.clone(),
                egress: self.egress.clone(),
                program: self.program.clone(),
                user: self.user.clone(),
                source_port: self.source_port,
                published: self.published,
                state: self.tracked.map(StateWord::state),
                direction,
            };
            let report = ask::report(&context.policy_in(&self.in_posture)?, &question, live)?;
            let found = if report.is_one_answer() { Outcome::Fine } else { Outcome::Found };
            return Ok(context.shown(&report, found, render::ask));
        }
        let question = match (&self.who, &self.what, &self.why) {
            (Some(traffic), ..) => asked::Question::Who(traffic.clone()),
            (_, Some(sender), _) => asked::Question::What(sender.clone()),
            (.., rule) => asked::Question::Why(rule.clone().unwrap_or_default()),
        };
        let report =
            asked::report(&context.policy_in(&self.in_posture)?, &question, direction, live)?;
        Ok(context.fine(&report, render::asked))
    }
}
