//! Very many hand-made packets to one host, each with its fate, and none unaccounted for.
//!
//! The packets come from an empty street over the host's links (see [`Stage`]). An observer's
//! table counts every packet that arrives before any rule, and reports and takes away every
//! packet that got through all of them, and every answer. What arrived and was neither reported
//! nor answered has been denied. That is certain only if the counts fit: if one packet of a lot
//! did not arrive, the lot is sent again in smaller parts until the one is found.

mod lot;
mod observed;

use crate::LinuxError;
use crate::lab::Stage;
use crate::ruleset::{self, Ledger};
use crate::sys::packet::FrameSender;
use crate::transport::{NetlinkSocket, Protocol, Transport, ask, dump};
use lot::Lot;
pub use observed::Met;
use observed::{ANSWERS, CLOSED, Counts, ELSEWHERE, GROUPS, Group, OPEN};
use std::net::IpAddr;
use std::time::{Duration, Instant};
use tipstaff_wire::netlink::split;
use tipstaff_wire::nf_tables::{
    self as nf, Batch, Expression, FAMILY_INET, Hook, Verdict, message_kind,
};
use tipstaff_wire::nflog;
use tipstaff_wire::packet::{Payload, build, parse};

const TABLE: &str = "tipstaff-observer";
/// Before everybody's rules, and behind them but before connection tracking keeps the flow.
const FIRST: i32 = i32::MIN;
const LAST: i32 = i32::MAX - 1;
/// Enough for every header that is looked at, with an ICMP error's around it.
const COPY: u32 = 112;
const BUFFER: u32 = 65_536;
const THRESHOLD: u16 = 128;
const QUEUE: usize = 8 * 1024 * 1024;
/// The kernel delivers after this time at the latest, in hundredths of a second.
const TIMEOUT: u32 = 1;
/// So many packets are under way at a time: the kernel queues 1,000 for a link that is busy.
const WINDOW: usize = 512;
/// When a lot did not arrive whole, it is sent again in parts of these sizes.
const PARTS: [usize; 6] = [usize::MAX, 4_096, 256, 16, 1, 1];
/// A packet that has not arrived by then will not.
const PATIENCE: Duration = Duration::from_millis(40);

impl Met {
    /// All, as they are compared.
    pub const ALL: [Self; 7] = [
        Self::Open,
        Self::Closed,
        Self::PassedOn,
        Self::Rejected,
        Self::StoppedOddly,
        Self::Denied,
        Self::Lost,
    ];

    /// The word for it in output.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::Closed => "closed",
            Self::PassedOn => "passed-on",
            Self::Rejected => "rejected",
            Self::StoppedOddly => "stopped-oddly",
            Self::Denied => "denied",
            Self::Lost => "stopped-early",
        }
    }

    /// Reads the word that [`Met::as_str`] gives.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|met| met.as_str() == text)
    }
}

/// From where probes come, and where they go.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Ends<'a> {
    /// The host's link by which it comes in.
    pub link: &'a str,
    /// The address that it comes from.
    pub source: IpAddr,
    /// The address that it goes to.
    pub destination: IpAddr,
}

/// A host that is being tried.
pub struct Sweep {
    reports: NetlinkSocket,
    counters: NetlinkSocket,
    senders: Vec<(String, FrameSender)>,
    next_tag: u32,
    sent: u64,
}

const ARRIVED: &str = "arrived";

impl Sweep {
    /// Puts the observer into the host. Packets count as arrived when they reach the rules for
    /// inbound traffic, or, for a `replica` with rules of others, when they reach the host.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses.
    pub fn open(stage: &Stage, replica: bool) -> Result<Self, LinuxError> {
        let host = stage.host();
        let (reports, counters) = host.run(|| {
            observe(replica)?;
            let mut reports = NetlinkSocket::open(Protocol::Netfilter)?;
            reports.queue(QUEUE)?;
            for group in GROUPS {
                let group = nflog::Group {
                    number: group.number,
                    copy: COPY,
                    buffer: BUFFER,
                    threshold: THRESHOLD.into(),
                    timeout: TIMEOUT,
                };
                ask(&mut reports, "receive packet reports", |n| nflog::bind(&group, n))?;
            }
            Ok::<_, LinuxError>((reports, NetlinkSocket::open(Protocol::Netfilter)?))
        })??;
        let mut senders = Vec::new();
        for (link, address) in host.links() {
            let Some(door) = stage.door(link) else { continue };
            let sender = stage
                .street()
                .run(|| FrameSender::open(&door, *address))?
                .map_err(|source| LinuxError::system("open a packet socket", source))?;
            senders.push((link.clone(), sender));
        }
        Ok(Self { reports, counters, senders, next_tag: 1, sent: 0 })
    }

    /// How many packets were sent so far.
    #[must_use]
    pub fn sent(&self) -> u64 {
        self.sent
    }

    /// Sends packets and gives what became of each, in the same order.
    ///
    /// # Errors
    /// [`LinuxError`] if packets cannot be sent or reports cannot be read.
    pub fn fire(&mut self, shots: &[(Ends<'_>, Payload)]) -> Result<Vec<Met>, LinuxError> {
        let mut met: Vec<Option<Met>> = vec![None; shots.len()];
        let mut left: Vec<usize> = (0..shots.len()).collect();
        for size in PARTS {
            let mut again = Vec::new();
            for part in left.chunks(size.min(left.len().max(1))) {
                let (lot, is_whole) = self.fire_lot(shots, part)?;
                for (&at, found) in part.iter().zip(lot.met) {
                    met[at] = found.or(is_whole.then_some(Met::Denied));
                    again.extend(met[at].is_none().then_some(at));
                }
            }
            left = again;
            if left.is_empty() {
                break;
            }
        }
        Ok(met.into_iter().map(|met| met.unwrap_or(Met::Lost)).collect())
    }

    /// Sends some of the packets; gives what was reported, and whether all arrived and every report was
    /// read.
    fn fire_lot(
        &mut self,
        shots: &[(Ends<'_>, Payload)],
        part: &[usize],
    ) -> Result<(Lot, bool), LinuxError> {
        let before = self.count()?;
        let mut lot = Lot::new(self.next_tag, part.len());
        let mut in_time = true;
        let mut frames: Vec<Vec<u8>> = Vec::with_capacity(WINDOW);
        for (number, window) in part.chunks(WINDOW).enumerate() {
            // Packets for one link after the other go out together.
            for run in window.chunk_by(|a, b| shots[*a].0.link == shots[*b].0.link) {
                let link = run.first().map_or("", |at| shots[*at].0.link);
                let sender = self.senders.iter().find(|it| it.0 == link).map(|it| &it.1);
                let sender = sender.ok_or_else(|| LinuxError::Refused {
                    doing: format!("send to {link}"),
                    reason: "the host has no such link".into(),
                })?;
                frames.clear();
                for &at in run {
                    let (ends, payload) = shots[at];
                    let header = sender.frame_header(ends.source.is_ipv4());
                    let packet = build(ends.source, ends.destination, payload, self.next_tag);
                    self.next_tag = self.next_tag.wrapping_add(1);
                    let mut frame = Vec::with_capacity(header.len() + packet.len());
                    frame.extend_from_slice(&header);
                    frame.extend_from_slice(&packet);
                    frames.push(frame);
                }
                let slices: Vec<&[u8]> = frames.iter().map(Vec::as_slice).collect();
                sender
                    .send(&slices)
                    .map_err(|source| LinuxError::system("send packets", source))?;
            }
            self.sent += window.len() as u64;
            let expected = before.arrived + (number * WINDOW + window.len()) as u64;
            in_time &= self.wait_for(expected)?;
            self.read_reports(&mut lot)?;
        }
        let begun = Instant::now();
        let mut counts = self.count()?;
        while !lot.is_whole(&before, &counts) && begun.elapsed() < 3 * PATIENCE {
            std::thread::sleep(Duration::from_millis(1));
            self.read_reports(&mut lot)?;
            counts = self.count()?;
        }
        let is_whole = in_time && lot.is_whole(&before, &counts);
        Ok((lot, is_whole))
    }

    /// Waits until so many packets have arrived in all; gives whether they have.
    fn wait_for(&mut self, arrived: u64) -> Result<bool, LinuxError> {
        let begun = Instant::now();
        loop {
            let now = self.count()?.arrived;
            if now >= arrived {
                return Ok(now == arrived);
            }
            if begun.elapsed() > PATIENCE {
                return Ok(false);
            }
            std::thread::yield_now();
        }
    }

    /// Reads what has been reported.
    fn read_reports(&mut self, lot: &mut Lot) -> Result<(), LinuxError> {
        loop {
            let datagram = match self.reports.receive_now() {
                Ok(Some(datagram)) => datagram,
                Ok(None) => return Ok(()),
                // Reports were dropped: the counts will not fit, and the lot is sent again.
                Err(error) if error.raw_os_error() == Some(libc::ENOBUFS) => continue,
                Err(error) => return Err(LinuxError::system("read packet reports", error)),
            };
            for message in split(datagram)?.iter().filter(|it| it.kind == nflog::PACKET) {
                let report = nflog::decode(message.body)?;
                if let Some(group) = GROUPS.iter().position(|it| it.number == report.group) {
                    lot.note(group, parse(report.packet));
                }
            }
        }
    }

    /// Asks the kernel how many packets the observer has met.
    fn count(&mut self) -> Result<Counts, LinuxError> {
        let rules: Vec<nf::Rule> = dump(
            &mut self.counters,
            "count packets in a lab",
            |sequence| {
                let ours = nf::Rule { table: TABLE.into(), ..nf::Rule::default() };
                nf::dump(message_kind::GET_RULE, FAMILY_INET, sequence, |out| ours.write_table(out))
            },
            nf::Rule::decode,
        )?;
        let mut counts = Counts::default();
        for rule in rules {
            let packets = rule.expressions.iter().find_map(|it| match it {
                Expression::Counter { packets, .. } => Some(*packets),
                _ => None,
            });
            let group = GROUPS.iter().position(|it| it.chain.as_bytes() == rule.user_data);
            match (packets, group) {
                (Some(packets), Some(group)) => counts.reported[group] = packets,
                (Some(packets), None) => counts.arrived = packets,
                (None, _) => {}
            }
        }
        Ok(counts)
    }
}

/// Breaks off where no socket waits for the packet.
fn a_socket_waits() -> Expression {
    Expression::Socket { key: nf::SocketKey::Mark, register: nf::registers::FIRST }
}

/// Puts the observer's table into the calling thread's namespace. Only a replica has listeners to
/// tell from ports where nobody listens; not every kernel can.
fn observe(replica: bool) -> Result<(), LinuxError> {
    let arriving_at = if replica { Hook::PRE_ROUTING } else { Hook::LOCAL_IN };
    let mut socket = NetlinkSocket::open(Protocol::Netfilter)?;
    let mut batch = Batch::begin(socket.next_sequence());
    // In place of that of an earlier sweep, should there have been one.
    let table = nf::Table { name: TABLE.into(), ..nf::Table::default() };
    batch.new_table(&table);
    batch.delete_table(TABLE);
    batch.new_table(&table);
    let chain = |name: &str, number: u32, priority: i32| nf::Chain {
        family: FAMILY_INET,
        table: TABLE.into(),
        name: name.into(),
        kind: Some("filter".into()),
        hook: Some(Hook { number, priority }),
        policy: Some(1),
    };
    let rule = |chain: &str, mark: &str, expressions: Vec<Expression>| nf::Rule {
        table: TABLE.into(),
        chain: chain.into(),
        expressions,
        user_data: mark.as_bytes().to_vec(),
        ..nf::Rule::default()
    };
    let counter = || Expression::Counter { packets: 0, bytes: 0 };
    let report = |group: &Group| {
        let log = Expression::Log {
            group: group.number,
            snap_length: COPY,
            threshold: THRESHOLD,
            prefix: String::new(),
        };
        [counter(), log, Expression::Immediate(Verdict::Drop)]
    };
    batch.new_chain(&chain(ARRIVED, arriving_at, FIRST));
    batch.new_rule(&rule(ARRIVED, ARRIVED, vec![counter()]));
    const THROUGH: &str = "through";
    batch.new_chain(&chain(THROUGH, Hook::LOCAL_IN, LAST));
    if replica {
        let open = [a_socket_waits()].into_iter().chain(report(&OPEN)).collect();
        batch.new_rule(&rule(THROUGH, OPEN.chain, open));
    }
    batch.new_rule(&rule(THROUGH, CLOSED.chain, report(&CLOSED).to_vec()));
    for (group, hook, priority) in
        [(&ELSEWHERE, Hook::FORWARD, LAST), (&ANSWERS, Hook::LOCAL_OUT, FIRST)]
    {
        batch.new_chain(&chain(group.chain, hook, priority));
        batch.new_rule(&rule(group.chain, group.chain, report(group).to_vec()));
    }
    ruleset::send(&mut socket, "put an observer into the lab", batch, &Ledger::default())
}
