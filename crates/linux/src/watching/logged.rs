//! Decisions as the rules themselves report them, because the policy says so: no more than it says, and at no cost
//! where it says nothing.
//!
//! Each report names the list of decisions by which its number is to be understood, so rules that are replaced
//! meanwhile make nobody take one decision for another.

use super::course::Seen;
use super::headers;
use super::known::{Known, table};
use super::{Losses, Watcher, is_nothing};
use crate::LinuxError;
use crate::ruleset::{self, Decided, LOG_GROUP, WholeList};
use crate::taken::reports_are_taken;
use crate::transport::{NetlinkSocket, Protocol, Transport, ask};
use foldhash::HashMap;
use std::collections::VecDeque;
use std::time::{Duration, Instant};
use tipstaff_core::plan::RuleId;
use tipstaff_core::policy::Verdict;
use tipstaff_core::program::Action;
use tipstaff_core::space::Direction;
use tipstaff_wire::netlink::split;
use tipstaff_wire::nf_tables::Hook;
use tipstaff_wire::nflog::{self, Report};

/// So much may wait to be read.
const QUEUE: usize = 16 * 1024 * 1024;
/// What the kernel gathers before it tells: so many bytes, reports, and hundredths of a second.
const GATHERED: (u32, u32, u32) = (64 * 1024, 64, 10);
/// So many datagrams are read at once at most: then others have their turn.
const AT_ONCE: usize = 4_096;
/// The rules' counters are read no more often than this.
const COUNT_EVERY: Duration = Duration::from_secs(1);
/// So many lists of decisions are remembered.
const LISTS: usize = 16;
/// So many bytes of a packet: its headers.
const COPIED: u32 = 128;
const DOING: &str = "take the reports of decisions";

/// Takes the reports of our rules.
pub struct Logged {
    reports: NetlinkSocket,
    /// For questions.
    asks: NetlinkSocket,
    /// The lists of decisions by which numbers are understood, the latest last.
    lists: VecDeque<(String, HashMap<u32, Decided>)>,
    rules: Known,
    last: Option<u32>,
    seen: u64,
    /// Reports that did not come here.
    gone: u64,
    /// Decisions beyond what is reported: those of rules that were replaced, and of these rules.
    beyond: (u64, u64),
    /// The rules of which the latter is.
    counted: Option<u64>,
    overrun: Option<Instant>,
    /// Whether it has been looked, for what is being read, if the rules are still these.
    looked: bool,
    /// When the rules' counters are to be read again.
    count_again: Instant,
}

impl Logged {
    /// Begins.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel refuses: somebody else may take them already.
    pub fn open() -> Result<Self, LinuxError> {
        let mut asks = NetlinkSocket::open(Protocol::Netfilter)?;
        let mut reports = NetlinkSocket::open(Protocol::Netfilter)?;
        reports.queue(QUEUE)?;
        let (buffer, threshold, timeout) = GATHERED;
        let group = nflog::Group { number: LOG_GROUP, copy: COPIED, buffer, threshold, timeout };
        let bound = ask(&mut reports, DOING, |sequence| nflog::bind(&group, sequence));
        // Whoever is not the first is refused as if it was not permitted.
        if let Err(error) = bound {
            let taken = reports_are_taken().unwrap_or(false);
            let reason = format!("another process takes those of group {LOG_GROUP}").into();
            return Err(match taken {
                true => LinuxError::Refused { doing: DOING.into(), reason },
                false => error,
            });
        }
        let rules = Known::read(&mut asks)?;
        let counted = rules.table;
        let now = ruleset::reported(&mut asks)?.map_or(0, |[asked, told]| asked - told.min(asked));
        let (last, overrun, lists) = (None, None, VecDeque::new());
        // What was beyond it before is nobody's loss.
        let beyond = (0_u64.wrapping_sub(now), now);
        let (seen, gone) = (0, 0);
        let (looked, count_again) = (false, Instant::now());
        Ok(Self {
            reports,
            asks,
            lists,
            rules,
            last,
            seen,
            gone,
            beyond,
            counted,
            overrun,
            looked,
            count_again,
        })
    }

    fn take(&mut self, datagram: &[u8], seen: &mut Vec<Seen>) -> Result<(), LinuxError> {
        self.looked = false;
        for message in split(datagram)? {
            if message.kind != nflog::PACKET {
                continue;
            }
            let report = nflog::decode(message.body)?;
            if report.group != LOG_GROUP {
                continue;
            }
            let next = self.last.map_or(report.sequence, |it| it.wrapping_add(1));
            self.gone += u64::from(report.sequence.wrapping_sub(next));
            self.last = Some(report.sequence);
            if let Some(it) = self.told(&report)? {
                self.seen += 1;
                seen.push(it);
            }
        }
        Ok(())
    }

    /// What a report tells; `None` for one that is not of a decision, or that another one tells as well.
    fn told(&mut self, report: &Report<'_>) -> Result<Option<Seen>, LinuxError> {
        let direction = match u32::from(report.hook) {
            Hook::LOCAL_IN => Direction::Inbound,
            Hook::FORWARD => Direction::Forwarded,
            Hook::LOCAL_OUT => Direction::Outbound,
            _ => return Ok(None),
        };
        let Some((verdict, list)) = by_list(report.prefix) else {
            return self.by_rule(report, direction);
        };
        let decided = self.list(list)?.get(&report.mark).filter(|it| it.direction == direction);
        let decision = decided.map(|it| it.id.clone());
        Ok(self.one(report, direction, verdict, decision))
    }

    /// What a rule reports of its own accord: whatever it takes.
    fn by_rule(
        &mut self,
        report: &Report<'_>,
        direction: Direction,
    ) -> Result<Option<Seen>, LinuxError> {
        if !std::mem::replace(&mut self.looked, true) && table(&mut self.asks)? != self.rules.table
        {
            self.rules = Known::read(&mut self.asks)?;
        }
        let id = RuleId::parse(report.prefix);
        let Some(verdict) = self.verdict(direction, &id) else { return Ok(None) };
        let logging = self.rules.program.logging;
        let twice = logging.is_some_and(|it| it.reports(verdict == Verdict::Allow).is_some());
        Ok(self.one(report, direction, verdict, Some(id)).filter(|_| !twice))
    }

    /// What a rule does with all that it takes, if it does the same with all.
    fn verdict(&self, direction: Direction, id: &RuleId) -> Option<Verdict> {
        let chains = self.rules.program.chains.iter().filter(|it| it.direction == Some(direction));
        let rules = chains.flat_map(|it| &it.rules).filter(|it| it.id.as_ref() == Some(id));
        let mut all = rules.filter_map(|it| match it.action {
            Action::Log(_) => None,
            Action::Allow => Some(Some(Verdict::Allow)),
            Action::Deny => Some(Some(Verdict::Deny)),
            Action::Reset | Action::Prohibit => Some(Some(Verdict::Reject)),
            _ => Some(None),
        });
        let first = all.next()??;
        all.all(|it| it == Some(first)).then_some(first)
    }

    fn one(
        &self,
        report: &Report<'_>,
        direction: Direction,
        verdict: Verdict,
        decision: Option<RuleId>,
    ) -> Option<Seen> {
        let links = report.links.map(|it| self.rules.link(it));
        Some(Seen::of(headers::of(report.packet)?, direction, verdict, decision, links))
    }

    /// The list of decisions of that name; an empty one if it is gone.
    fn list(&mut self, name: &str) -> Result<&HashMap<u32, Decided>, LinuxError> {
        let place = |lists: &VecDeque<(String, _)>| lists.iter().position(|it| it.0 == name);
        if place(&self.lists).is_none() {
            let WholeList { name: now, decisions } = ruleset::whole_list(&mut self.asks)?;
            if now != name {
                self.lists.push_back((name.to_owned(), HashMap::default()));
            }
            if !self.lists.iter().any(|it| it.0 == now) {
                self.lists.push_back((now, decisions));
            }
            let over = self.lists.len().saturating_sub(LISTS);
            self.lists.drain(..over);
        }
        let at = place(&self.lists).unwrap_or_default();
        Ok(&self.lists[at].1)
    }

    /// How many decisions were beyond what is reported.
    fn count(&mut self) -> Result<(), LinuxError> {
        let is = table(&mut self.asks)?;
        let reported = ruleset::reported(&mut self.asks)?;
        if is != self.counted {
            self.counted = is;
            self.beyond = (self.beyond.0.wrapping_add(self.beyond.1), 0);
        }
        if let Some([asked, told]) = reported {
            self.beyond.1 = asked.saturating_sub(told);
        }
        Ok(())
    }

    fn drain(&mut self, seen: &mut Vec<Seen>) -> Result<(), LinuxError> {
        for _ in 0..AT_ONCE {
            match self.reports.receive_now() {
                Ok(Some(datagram)) => {
                    let datagram = datagram.to_vec();
                    self.take(&datagram, seen)?;
                }
                Ok(None) => break,
                Err(error) if is_nothing(&error, &mut self.overrun) => {}
                Err(error) => return Err(LinuxError::system(DOING, error)),
            }
        }
        Ok(())
    }
}

impl Watcher for Logged {
    fn next(&mut self, patience: Duration) -> Result<Vec<Seen>, LinuxError> {
        let mut seen = Vec::new();
        self.reports.patience(patience.max(Duration::from_millis(1)))?;
        match self.reports.receive() {
            Ok(datagram) => {
                self.take(&datagram, &mut seen)?;
                self.drain(&mut seen)?;
            }
            Err(error) if is_nothing(&error, &mut self.overrun) => {}
            Err(error) => return Err(LinuxError::system(DOING, error)),
        }
        Ok(seen)
    }

    fn losses(&mut self, seen: &mut Vec<Seen>) -> Result<Losses, LinuxError> {
        if Instant::now() >= self.count_again {
            let began = Instant::now();
            self.count()?;
            // Of many rules that takes a while: no more than a fiftieth of the time goes into it.
            self.count_again = Instant::now() + (began.elapsed() * 50).max(COUNT_EVERY);
        }
        self.drain(seen)?;
        let lost = self.gone + self.beyond.0.wrapping_add(self.beyond.1);
        Ok(Losses { came: self.seen + lost, lost, elsewhere: 0 })
    }

    fn end(&mut self, seen: &mut Vec<Seen>) -> Result<Losses, LinuxError> {
        // The kernel tells what it has gathered by then.
        let hundredths = u64::from(GATHERED.2);
        std::thread::sleep(Duration::from_millis(hundredths * 10 + 50));
        self.count_again = Instant::now();
        self.losses(seen)
    }
}

/// What became of a packet, and the list by which its decision's number is understood, by the text that goes with a
/// report.
fn by_list(prefix: &str) -> Option<(Verdict, &str)> {
    let (word, list) = prefix.split_once('/')?;
    let verdict = match word {
        "allowed" => Verdict::Allow,
        "denied" => Verdict::Deny,
        "rejected" => Verdict::Reject,
        _ => return None,
    };
    Some((verdict, list))
}
