//! Hand-made packets, whose fate is observed in the kernel itself.
//!
//! Around the hooks at which rules decide, a table of the observer's reports every packet before
//! and after them. A packet that is reported before and after has passed. One that is reported
//! only before has been stopped, and whether the host answered is seen among the packets that
//! leave it. One that is not reported at all never arrived: that is said, not counted as denied.

use crate::LinuxError;
use crate::lab::{Node, Stage};
use crate::ruleset::{self, Ledger};
use crate::sys::packet::{HostSender, LinkSender};
use crate::transport::{NetlinkSocket, Protocol, Transport, ask};
use std::collections::HashMap;
use std::net::IpAddr;
use std::time::Duration;
use tipstaff_core::policy::Verdict;
use tipstaff_core::space::Direction;
use tipstaff_wire::netlink::split;
use tipstaff_wire::nf_tables::{self as nf, Batch, Expression, FAMILY_INET, Hook};
use tipstaff_wire::nflog;
use tipstaff_wire::packet::{Answer, Payload, Seen, build, parse};

const TABLE: &str = "tipstaff-observer";
/// Before everybody's rules, and behind them.
const BEFORE: i32 = i32::MIN;
const AFTER: i32 = i32::MAX - 1;
/// Enough for every header that is looked at, with an ICMP error's around it.
const COPY: u32 = 128;
/// The kernel delivers when this much has gathered.
const BUFFER: u32 = 65_536;
const THRESHOLD: u16 = 64;
/// How much may wait to be read.
const QUEUE: usize = 8 * 1024 * 1024;
/// The kernel delivers after this time at the latest, in hundredths of a second.
const TIMEOUT: u32 = 1;
/// So many packets are sent before reports are read.
const VOLLEY: usize = 512;
/// After a volley, every report has come when none has come for this time.
const QUIET: Duration = Duration::from_millis(120);

/// A packet to send.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Shot {
    /// Where it is observed: at the host's inbound, outbound or forwarding hook.
    pub direction: Direction,
    /// The address that it comes from.
    pub source: IpAddr,
    /// The address that it goes to.
    pub destination: IpAddr,
    /// What is behind the IP header.
    pub payload: Payload,
}

/// What became of a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fate {
    /// The rules decided it like this.
    Decided(Verdict),
    /// It was stopped, and the host answered with another error than a rule would.
    StoppedOddly,
    /// It never reached the rules.
    Lost,
}

/// What was seen of one packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
struct Record {
    arrived: bool,
    passed: bool,
    answer: Option<Answer>,
}

impl Record {
    /// Whether nothing more can come that would matter. Of a denied packet that is never known:
    /// it is silence that tells. An answer alone settles nothing: it may be that of who took a packet
    /// that passed, and the report of that may come later, since each group of reports has its own time.
    fn is_settled(&self) -> bool {
        self.arrived && self.passed
    }
}

/// The fates of some packets, and whether every report arrived.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Account {
    /// One fate a packet, in the order of the packets.
    pub fates: Vec<Fate>,
    /// Reports that the kernel made and that were lost on the way, as their numbering shows.
    pub lost_reports: u64,
}

/// A host under observation, and the neighbour that sends it packets.
pub struct Range<'a> {
    host: &'a Node,
    reports: NetlinkSocket,
    /// By each link of the host that is tried, one.
    neighbours: Vec<LinkSender>,
    local: HostSender,
    next_tag: u32,
    /// For each group, the number of the next report.
    expected: HashMap<u16, u32>,
}

const HOOKS: [(Direction, u32, &str); 3] = [
    (Direction::Inbound, Hook::LOCAL_IN, "in"),
    (Direction::Outbound, Hook::LOCAL_OUT, "out"),
    (Direction::Forwarded, Hook::FORWARD, "through"),
];

/// The group to which a hook's packets are reported.
fn group(direction: Direction, after: bool) -> u16 {
    let base = match direction {
        Direction::Inbound => 10,
        Direction::Outbound => 20,
        Direction::Forwarded => 30,
    };
    base + u16::from(after)
}

impl<'a> Range<'a> {
    /// Puts the observer into the host, and readies `neighbour` to send over its link of that
    /// name to the host's link `host_link`.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses.
    pub fn open(
        host: &'a Node,
        host_link: &str,
        neighbour: &Node,
        neighbour_link: &str,
    ) -> Result<Self, LinuxError> {
        let address = host.hardware_address(host_link).ok_or_else(|| LinuxError::Refused {
            doing: format!("send to {host_link}"),
            reason: "the host has no such link".into(),
        })?;
        let neighbour = neighbour
            .run(|| LinkSender::open(neighbour_link, address))?
            .map_err(|source| LinuxError::system("open a packet socket", source))?;
        Self::observing(host, vec![neighbour])
    }

    /// Puts the observer into the host on a stage; whoever sends to it is in the street.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses.
    pub fn on(stage: &'a Stage) -> Result<Self, LinuxError> {
        let mut neighbours = Vec::new();
        for (link, address) in stage.host().links() {
            let door = stage.door(link).unwrap_or_default();
            let sender = stage.street().run(|| LinkSender::open(&door, *address))?;
            neighbours
                .push(sender.map_err(|source| LinuxError::system("open a packet socket", source))?);
        }
        Self::observing(stage.host(), neighbours)
    }

    fn observing(host: &'a Node, neighbours: Vec<LinkSender>) -> Result<Self, LinuxError> {
        let (reports, local) = host.run(|| {
            observe()?;
            let mut reports = NetlinkSocket::open(Protocol::Netfilter)?;
            reports.queue(QUEUE)?;
            for (direction, ..) in HOOKS {
                for after in [false, true] {
                    let group = nflog::Group {
                        number: group(direction, after),
                        copy: COPY,
                        buffer: BUFFER,
                        threshold: THRESHOLD.into(),
                        timeout: TIMEOUT,
                    };
                    ask(&mut reports, "receive packet reports", |n| nflog::bind(&group, n))?;
                }
            }
            reports.patience(QUIET)?;
            let local = HostSender::open()
                .map_err(|source| LinuxError::system("open a raw socket", source))?;
            Ok::<_, LinuxError>((reports, local))
        })??;
        let expected = HashMap::new();
        Ok(Self { host, reports, neighbours, local, next_tag: 1, expected })
    }

    /// The host under observation.
    #[must_use]
    pub fn host(&self) -> &Node {
        self.host
    }

    /// Sends the packets and gives what became of each.
    ///
    /// # Errors
    /// [`LinuxError`] if a packet cannot be sent or reports cannot be read.
    pub fn fire(&mut self, shots: &[Shot]) -> Result<Account, LinuxError> {
        self.fire_by(shots, |_| 0)
    }

    /// The same where each packet from outside comes in by a link of its own, told by its place among the host's.
    ///
    /// # Errors
    /// As for [`Range::fire`].
    pub fn fire_by(
        &mut self,
        shots: &[Shot],
        link: impl Fn(usize) -> usize,
    ) -> Result<Account, LinuxError> {
        let first = self.next_tag;
        let mut records = vec![Record::default(); shots.len()];
        let mut lost_reports = 0;
        for (number, volley) in shots.chunks(VOLLEY).enumerate() {
            for (at, shot) in volley.iter().enumerate() {
                let packet = build(shot.source, shot.destination, shot.payload, self.next_tag);
                self.next_tag += 1;
                let sent = match shot.direction {
                    Direction::Outbound => self.local.send(&packet, shot.destination),
                    Direction::Inbound | Direction::Forwarded => {
                        match self.neighbours.get(link(number * VOLLEY + at)) {
                            Some(neighbour) => neighbour.send(&packet),
                            None => continue,
                        }
                    }
                };
                sent.map_err(|source| LinuxError::system(format!("send {shot:?}"), source))?;
            }
            let start = number * VOLLEY;
            let span = start..start + volley.len();
            lost_reports += self.collect(shots, first, &mut records, span)?;
        }
        let fates = records.iter().map(fate).collect();
        Ok(Account { fates, lost_reports })
    }

    /// Reads reports until none comes any more, or until all packets of the volley at `span` have
    /// passed or been answered; gives how many were lost.
    fn collect(
        &mut self,
        shots: &[Shot],
        first: u32,
        records: &mut [Record],
        span: std::ops::Range<usize>,
    ) -> Result<u64, LinuxError> {
        let mut lost = 0;
        loop {
            let datagram = match self.reports.receive() {
                Ok(datagram) => datagram,
                Err(error) if error.kind() == std::io::ErrorKind::WouldBlock => return Ok(lost),
                // The kernel had to drop reports: their numbers will be missing.
                Err(error) if error.raw_os_error() == Some(libc::ENOBUFS) => continue,
                Err(error) => return Err(LinuxError::system("read packet reports", error)),
            };
            for message in split(&datagram)?.iter().filter(|it| it.kind == nflog::PACKET) {
                let report = nflog::decode(message.body)?;
                let expected = self.expected.insert(report.group, report.sequence + 1);
                lost += u64::from(report.sequence.wrapping_sub(expected.unwrap_or(0)));
                note(&report, shots, first, records);
            }
            if records[span.clone()].iter().all(Record::is_settled) {
                return Ok(lost);
            }
        }
    }
}

fn note(report: &nflog::Report<'_>, shots: &[Shot], first: u32, records: &mut [Record]) {
    let find = |tag: u32| {
        let at = tag.checked_sub(first)? as usize;
        (at < shots.len()).then_some(at)
    };
    match parse(report.packet) {
        Seen::Probe(tag) => {
            let Some(at) = find(tag) else { return };
            // The tag may come back in an answer from elsewhere, which passes another hook.
            let direction = shots[at].direction;
            if report.group == group(direction, false) {
                records[at].arrived = true;
            } else if report.group == group(direction, true) {
                records[at].passed = true;
            }
        }
        // Answers are made by the host itself, so they begin at its outbound hook.
        Seen::Answer(tag, answer) if report.group == group(Direction::Outbound, false) => {
            if let Some(at) = find(tag) {
                records[at].answer = Some(answer);
            }
        }
        Seen::Answer(..) | Seen::Foreign => {}
    }
}

fn fate(record: &Record) -> Fate {
    match (record.arrived, record.passed, record.answer) {
        (false, ..) => Fate::Lost,
        (true, true, _) => Fate::Decided(Verdict::Allow),
        (true, false, None) => Fate::Decided(Verdict::Deny),
        (true, false, Some(Answer::Reset | Answer::Prohibited)) => Fate::Decided(Verdict::Reject),
        (true, false, Some(Answer::OtherError)) => Fate::StoppedOddly,
    }
}

/// Puts the observer's table into the calling thread's namespace.
fn observe() -> Result<(), LinuxError> {
    let mut socket = NetlinkSocket::open(Protocol::Netfilter)?;
    let mut batch = Batch::begin(socket.next_sequence());
    // One that is there already would take packets away.
    batch.new_table(&nf::Table { name: TABLE.into(), ..nf::Table::default() });
    batch.delete_table(TABLE);
    batch.new_table(&nf::Table { name: TABLE.into(), ..nf::Table::default() });
    for (direction, number, word) in HOOKS {
        for (after, priority) in [(false, BEFORE), (true, AFTER)] {
            let name = format!("{}-{word}", if after { "after" } else { "before" });
            batch.new_chain(&nf::Chain {
                family: FAMILY_INET,
                table: TABLE.into(),
                name: name.clone(),
                kind: Some("filter".into()),
                hook: Some(Hook { number, priority }),
                policy: Some(1),
            });
            batch.new_rule(&nf::Rule {
                table: TABLE.into(),
                chain: name,
                expressions: vec![Expression::Log {
                    group: group(direction, after),
                    snap_length: COPY,
                    threshold: THRESHOLD,
                    prefix: String::new(),
                }],
                ..nf::Rule::default()
            });
        }
    }
    ruleset::send(&mut socket, "put an observer into the lab", batch, &Ledger::default())
}

#[cfg(test)]
mod tests {
    use super::{Answer, Fate, Record, Verdict, fate};

    #[test]
    fn an_answer_that_is_reported_ahead_of_the_packet_that_passed_settles_nothing() {
        let mut record = Record { arrived: true, passed: false, answer: Some(Answer::Reset) };
        assert!(!record.is_settled(), "who took it may have answered");
        assert_eq!(fate(&record), Fate::Decided(Verdict::Reject));
        record.passed = true;
        assert!(record.is_settled());
        assert_eq!(fate(&record), Fate::Decided(Verdict::Allow));
    }
}
