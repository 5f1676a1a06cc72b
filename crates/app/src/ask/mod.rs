//! `ask`: what happens to one packet, and why.

mod answers;
mod packet;
mod question;

use super::{By, Failure, Loaded, PacketWords};
use crate::led::{Led, Ways, end_words};
use crate::vocabulary as say;
pub use answers::{Answer, Open};
pub use question::Question;
use serde::Serialize;
use tipstaff_core::plan::{Idle, Step};
use tipstaff_core::policy::Verdict;
use tipstaff_core::space::{Direction, Packet};
use tipstaff_linux::Machine;

/// What becomes of a packet, and why.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The host that the packet is about.
    pub host: String,
    /// The packet asked about.
    pub packet: PacketWords,
    /// `allow`, `deny` or `reject`.
    pub verdict: say::Verdict,
    /// Whether that holds only up to a rate.
    pub limited: bool,
    /// Whether the sender is told of a refusal.
    pub answered: bool,
    /// The decision that says so.
    pub decided_by: By,
    /// Every decision looked at, in order; the last one decides.
    pub path: Vec<PathStep>,
    /// What the question leaves open, and the answer depends on; then `verdict` and all others of these are
    /// about the packet as shown.
    pub depends_on: Vec<Open>,
    /// Every answer, if there are several: which packets meet what.
    pub answers: Vec<Answer>,
    /// Where rules of others on this machine lead the packet first; then `packet`, `path` and all others of these are
    /// about what it is there. `null` if nowhere else, or if the machine was not looked at.
    pub led: Option<LedWords>,
}

/// Where a packet is led before anything of the policy is decided.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LedWords {
    /// The packet as it comes.
    pub packet: PacketWords,
    /// Where it is led, as address and port.
    pub to: String,
    /// The table that leads it there.
    pub by: String,
}

impl Report {
    /// Whether all packets that the question may mean fare alike.
    pub fn is_one_answer(&self) -> bool {
        let mut verdicts = self.answers.iter().map(|it| it.verdict);
        verdicts.next().is_none_or(|first| verdicts.all(|it| it == first))
    }
}

/// A decision on the way.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PathStep {
    /// What the decision does to the packet.
    #[serde(flatten)]
    pub by: By,
    /// What it would do, or does.
    pub verdict: say::Verdict,
    /// Whether it takes the packet.
    pub takes: bool,
    /// Why it does not.
    pub because: Option<String>,
}

/// Answers the question.
///
/// # Errors
/// [`Failure`] if an argument cannot be understood, or if it cannot be told where the machine leads the packet.
pub fn report(
    loaded: &Loaded,
    question: &Question,
    live: Option<&dyn Machine>,
) -> Result<Report, Failure> {
    let (packet, meant) = packet::packet(loaded, question)?;
    if let Some(machine) = live {
        if question.direction != Direction::Inbound {
            return Err(only_inbound());
        }
        let (there, led) = Ways::of(machine)?.arrive(&packet);
        match led {
            None => {}
            Some(Led::To(to, by)) => {
                let packet = PacketWords::of(&packet);
                let led = Some(LedWords { packet, to: end_words(&to), by });
                return Ok(Report { led, ..about(loaded, there) });
            }
            Some(Led::NotKnown(by, why)) => {
                return Err(Failure::stopped(
                    format!(
                        "where the table `{}` leads such a packet cannot be told: {why}",
                        by.escape_debug()
                    ),
                    vec![format!(
                        "a copy of this machine tells: `tipstaff rehearse --live --traffic {}`",
                        question.traffic.escape_debug()
                    )],
                ));
            }
        }
    }
    let (depends_on, answers) = answers::answers(loaded, question, &meant)?;
    Ok(Report { depends_on, answers, ..about(loaded, packet) })
}

/// Others lead packets elsewhere on their way in; what they do to those that leave is not followed.
pub(crate) fn only_inbound() -> Failure {
    Failure::usage(
        "--live follows inbound packets only",
        "leave --direction out: a packet that is led to another machine is followed there",
    )
}

/// What becomes of one packet, of which all is known.
pub(crate) fn about(loaded: &Loaded, packet: Packet) -> Report {
    let plan = &loaded.plan;
    let packet = plan.related(packet);
    let path = plan.explain(&packet);
    let decided = plan.evaluate(&packet);
    Report {
        host: plan.host.clone(),
        packet: PacketWords::of(&packet),
        verdict: decided.verdict.into(),
        limited: decided.limited,
        answered: decided.verdict == Verdict::Reject && plan.may_answer(&packet),
        decided_by: By::of(&decided.by, plan),
        path: path.iter().map(path_step).collect(),
        depends_on: Vec::new(),
        answers: Vec::new(),
        led: None,
    }
}

fn path_step(step: &Step<'_>) -> PathStep {
    let because = match step.miss {
        _ if step.decision.idle == Some(Idle::Paused) => Some("paused".to_owned()),
        _ if step.decision.idle == Some(Idle::WithoutPrograms) => {
            Some("left out: whose a socket is cannot be told here".to_owned())
        }
        _ if step.decision.idle.is_some() => Some("ended".to_owned()),
        miss => miss.map(|miss| miss.to_string()),
    };
    PathStep {
        by: step.decision.into(),
        verdict: step.decision.act.verdict().into(),
        takes: because.is_none(),
        because,
    }
}
