//! The kernel's limiters back to a rate of the policy.

use super::super::names::NOT_IN;
use super::field::{Field, Registers};
use super::found::{Found, Sets};
use tipstaff_core::policy::Rate;
use tipstaff_core::program::{Action, Sender};
use tipstaff_wire::nf_tables::{Expression, Limit};

/// Who share a limiter.
#[derive(Clone, Copy, PartialEq)]
enum Keeps {
    All,
    Each(Sender),
    /// Those whose addresses have one hash.
    Crowd(Sender),
}

/// What limits a rule.
#[derive(Default)]
pub(super) struct Limiter {
    /// The limiter, and who share it.
    limit: Option<(Limit, Keeps)>,
    /// The set of senders told apart, if only those come so far that it does not hold.
    pub not_in: Option<String>,
    /// The set that keeps the limiters.
    pub keeps_in: Option<String>,
}

impl Limiter {
    /// Whether only those come so far for whom there was no room, and nothing has limited them yet.
    pub(crate) fn is_about_the_crowd(&self) -> bool {
        self.not_in.is_some() && self.limit.is_none()
    }

    /// Follows what keeps a rate, or is for those for whom there was no room; gives whether the expression is.
    pub(super) fn step(
        &mut self,
        expression: &Expression,
        registers: &Registers,
        sets: &Sets,
    ) -> bool {
        match expression {
            Expression::Lookup { register, set, flags: NOT_IN, to_verdict: false, .. }
                if registers.get(*register).sender().is_some()
                    && matches!(sets.get(set), Some(Found::Senders)) =>
            {
                self.not_in = Some(set.clone());
            }
            Expression::Limit(limit) if self.limit.is_none() => {
                self.limit = Some((*limit, Keeps::All));
            }
            Expression::Dynset { register, set, limit, .. } => {
                self.keeps_in = Some(set.clone());
                let field = registers.get(*register);
                let keeps = match (field.sender(), field) {
                    (Some(sender), _) => Keeps::Each(sender),
                    (None, Field::Crowd(sender)) if self.not_in.is_some() => Keeps::Crowd(sender),
                    _ => return false,
                };
                if self.limit.is_some() {
                    return false;
                }
                self.limit = Some((*limit, keeps));
            }
            _ => return false,
        }
        true
    }

    /// What a rule does that ends in `action` and that this limits; `crowded` says whether it counts those for
    /// whom there was no room.
    pub(super) fn action(&self, action: Option<Action>, crowded: bool) -> Action {
        match (action, self.limit) {
            (Some(Action::Allow), Some((limit, Keeps::Crowd(sender)))) => {
                rate(&limit, true).map_or_else(opaque, |rate| Action::AllowCrowded(rate, sender))
            }
            // Whom a set does not hold is told only for that.
            (_, Some((_, Keeps::Crowd(_)))) | (_, None) if crowded || self.not_in.is_some() => {
                Action::Opaque("lookup".into())
            }
            (Some(action), None) => action,
            (Some(Action::Allow), Some((limit, keeps))) if self.not_in.is_none() => {
                let each = if let Keeps::Each(sender) = keeps { Some(sender) } else { None };
                let action = |rate| match each {
                    Some(sender) => Action::AllowEach(rate, sender),
                    None => Action::AllowWithin(rate),
                };
                rate(&limit, each.is_some()).map_or_else(opaque, action)
            }
            (Some(Action::Log(None)), Some((limit, Keeps::All))) => {
                rate(&limit, false).map_or_else(opaque, |cap| Action::Log(Some(cap)))
            }
            (Some(_), Some(_)) => opaque(),
            (None, _) => Action::Opaque("no verdict".into()),
        }
    }
}

fn opaque() -> Action {
    Action::Opaque("limit".into())
}

fn rate(limit: &Limit, per_source: bool) -> Option<Rate> {
    let (count, seconds) = (u32::try_from(limit.rate).ok()?, u32::try_from(limit.unit).ok()?);
    let plain = limit.kind == 0 && limit.flags == 0;
    plain.then_some(Rate { count, seconds, burst: limit.burst, per_source })
}
