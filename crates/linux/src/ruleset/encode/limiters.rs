//! How often: a rate of the policy to the kernel's limiters, and the sets that hold one for each sender.

use super::super::keys;
use super::super::names::{CROWDS, NOT_IN, TABLE};
use super::super::pace::{limit, refill_time};
use super::encoder::Encoder;
use super::expressions::payload;
use tipstaff_core::policy::Rate;
use tipstaff_core::program::{Action, ProgramRule, Sender};
use tipstaff_wire::nf_tables::{self as nf, Base, Expression, Verdict, registers, set_flags};

/// How many senders a rate per source can tell apart at a time.
const SENDERS: u32 = 65_536;

/// So begin the names of the sets in which a rate keeps a limiter for each sender.
pub(crate) const LIMITS: &str = "limits/";

impl Encoder<'_> {
    /// What limits a rule. Gives whether that is all of what it does.
    pub(super) fn limited(&mut self, rule: &ProgramRule, out: &mut Vec<Expression>) -> bool {
        match &rule.action {
            Action::AllowWithin(rate) => {
                out.push(Expression::Limit(limit(*rate)));
                out.extend(taken());
            }
            Action::AllowEach(rate, by) => self.meter(*rate, *by, rule, out),
            Action::AllowCrowded(rate, by) => self.crowd(*rate, *by, rule, out),
            Action::Log(cap) => {
                out.extend(cap.map(|cap| Expression::Limit(limit(cap))));
                return false;
            }
            _ => return false,
        }
        true
    }

    /// Lets senders pass while each keeps the rate. The set is bounded: senders beyond what it
    /// holds do not match, and meet the rules behind this one.
    fn meter(&mut self, rate: Rate, by: Sender, rule: &ProgramRule, out: &mut Vec<Expression>) {
        let (offset, length) = keys::sender(by);
        let (set, id) = self.growing(length, SENDERS, rate, rule);
        out.push(payload(Base::Network, offset, length));
        self.told_apart.insert(by, (set.clone(), id));
        self.keep(set, id, rate, out);
    }

    /// Lets senders pass for which that set has no room while all whose addresses have one hash keep the
    /// rate together. So whoever fills the set with forged senders does not turn away every new one: as
    /// many forged ones more are needed in each place as the rate allows.
    fn crowd(&mut self, rate: Rate, by: Sender, rule: &ProgramRule, out: &mut Vec<Expression>) {
        let (offset, length) = keys::sender(by);
        let Some((set, id)) = self.told_apart.get(&by).cloned() else {
            unreachable!("a rule that tells senders apart comes before");
        };
        out.push(payload(Base::Network, offset, length));
        out.push(Expression::Lookup {
            register: registers::FIRST,
            set,
            id,
            flags: NOT_IN,
            to_verdict: false,
        });
        out.push(Expression::Counter { packets: 0, bytes: 0 });
        out.push(Expression::Hash {
            source: registers::FIRST,
            destination: registers::FIRST,
            length,
            modulus: CROWDS,
            seed: None,
            offset: 0,
        });
        let (set, id) = self.growing(4, CROWDS, rate, rule);
        self.keep(set, id, rate, out);
    }

    /// A set that rules fill, of a limiter for each key; keys are forgotten when their limiters are
    /// full again.
    fn growing(&mut self, length: u32, size: u32, rate: Rate, rule: &ProgramRule) -> (String, u32) {
        self.sets += 1;
        let set = nf::Set {
            table: TABLE.into(),
            name: self.named(&format!("{LIMITS}{}", self.chain)),
            flags: set_flags::DYNAMIC | set_flags::TIMEOUT,
            key_length: length,
            id: self.sets,
            size: Some(size),
            timeout: Some(refill_time(rate)),
            ..nf::Set::default()
        };
        let message = self.batch.new_set(&set);
        self.ledger.note(message, rule.id.as_ref());
        (set.name, set.id)
    }

    fn keep(&self, set: String, id: u32, rate: Rate, out: &mut Vec<Expression>) {
        out.push(Expression::Dynset { register: registers::FIRST, set, id, limit: limit(rate) });
        out.extend(taken());
    }
}

/// What becomes of a packet that keeps the rate.
fn taken() -> [Expression; 2] {
    [Expression::Counter { packets: 0, bytes: 0 }, Expression::Immediate(Verdict::Accept)]
}
