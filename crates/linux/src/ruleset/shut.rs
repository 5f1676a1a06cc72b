//! The shut door: nothing in or out but loopback, whatever the rules say.
//!
//! That has a table of its own, ahead of all others that decide, and ours stays what it is: to open again is to take
//! the table away, and all is as it was, with what has been counted. No policy is needed for it, nor anything on disk.

use super::ledger::{Ledger, send};
use super::listed::chains;
use super::listed::rules_of;
use super::moment::before;
use super::names::{text_of, user_data};
use super::read::{FLAG_DORMANT, tables};
use crate::LinuxError;
use crate::session::Session;
use crate::transport::Transport;
use std::net::IpAddr;
use tipstaff_core::plan::LOOPBACK;
use tipstaff_core::policy::Time;
use tipstaff_core::space::{ICMP, ICMPV6, TCP};
use tipstaff_wire::nf_tables::{
    self as nf, Base, Batch, Compare, Expression, FAMILY_INET, FAMILY_IPV4, FAMILY_IPV6, Hook,
    MetaKey, Verdict, registers,
};

/// The name of the table.
const TABLE: &str = "tipstaff-shut";
/// Ahead of connection tracking (`NF_IP_PRI_CONNTRACK`, -200) and what others do ahead of that, behind the putting
/// together of fragments (`NF_IP_PRI_CONNTRACK_DEFRAG`, -400).
const PRIORITY: i32 = -390;
/// So many bytes of a reason are kept: the kernel has room for some 250 in all.
const REASON: usize = 120;
const FIRST: u32 = registers::FIRST;
const DOING: &str = "look whether the door is shut";

/// The three ways: the chain at the hook, and where it is.
const WAYS: [(&str, u32); 3] =
    [("inbound", Hook::LOCAL_IN), ("forwarded", Hook::FORWARD), ("outbound", Hook::LOCAL_OUT)];

/// How the door is shut.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Shut {
    /// Since when, in seconds since the Unix epoch.
    pub since: i64,
    /// Until when; `None`: until somebody opens it.
    pub until: Option<Time>,
    /// The remote session that goes on.
    pub session: Option<Session>,
    /// Why.
    pub why: String,
}

/// The shut door as the kernel has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Door {
    /// How it was shut.
    pub shut: Shut,
    /// Whether the kernel does what was meant by that.
    pub intact: bool,
    /// How many packets it has turned away.
    pub turned_away: u64,
}

/// Shuts the door; one that was shut before is then shut so.
///
/// # Errors
/// [`LinuxError`] if the kernel refuses.
pub fn shut(transport: &mut dyn Transport, how: &Shut) -> Result<(), LinuxError> {
    let mut batch = Batch::begin(transport.next_sequence());
    let table =
        nf::Table { name: TABLE.into(), user_data: user_data(&how.text()), ..nf::Table::default() };
    batch.new_table(&table);
    batch.delete_table(TABLE);
    batch.new_table(&table);
    for (name, hook) in WAYS {
        batch.new_chain(&chain(&held(name), None));
        batch.new_chain(&chain(name, Some(hook)));
    }
    for (chain, expressions) in how.rules() {
        batch.new_rule(&nf::Rule {
            table: TABLE.into(),
            chain,
            expressions,
            ..nf::Rule::default()
        });
    }
    send(transport, "shut the door", batch, &Ledger::default())
}

/// Opens the door again; gives `false` if it was not shut.
///
/// # Errors
/// [`LinuxError`] if the kernel refuses.
pub fn open(transport: &mut dyn Transport) -> Result<bool, LinuxError> {
    if !tables(transport)?.iter().any(|it| it.name == TABLE) {
        return Ok(false);
    }
    let mut batch = Batch::begin(transport.next_sequence());
    batch.delete_table(TABLE);
    send(transport, "open the door", batch, &Ledger::default())?;
    Ok(true)
}

/// How the door is shut; `None` if it is not. One whose time is over is told as it was shut.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub fn door(transport: &mut dyn Transport) -> Result<Option<Door>, LinuxError> {
    let Some(table) = tables(transport)?.into_iter().find(|it| it.name == TABLE) else {
        return Ok(None);
    };
    let shut = text_of(&table.user_data).and_then(Shut::parse);
    let rules = rules_of(transport, DOING, TABLE)?;
    let turned_away = rules.iter().flat_map(|it| &it.expressions).map(|it| match it {
        Expression::Counter { packets, .. } => *packets,
        _ => 0,
    });
    let turned_away = turned_away.sum();
    let Some(shut) = shut else {
        let shut = Shut { since: 0, until: None, session: None, why: String::new() };
        return Ok(Some(Door { shut, intact: false, turned_away }));
    };
    let mut meant = shut.rules();
    let plain = |rule: nf::Rule| {
        let counted = |it| match it {
            Expression::Counter { .. } => counter(),
            other => other,
        };
        (rule.chain, rule.expressions.into_iter().map(counted).collect::<Vec<_>>())
    };
    let mut found: Vec<_> = rules.into_iter().map(plain).collect();
    // Chains come in whatever order; the rules of one in theirs.
    meant.sort_by(|a, b| a.0.cmp(&b.0));
    found.sort_by(|a, b| a.0.cmp(&b.0));
    let at_hooks = |(name, hook): (&'static str, u32)| {
        let expected = chain(name, Some(hook)).hook;
        move |it: &nf::Chain| it.table == TABLE && it.name == name && it.hook == expected
    };
    let chains = chains(transport, "read the kernel's rules")?;
    let intact = table.flags & FLAG_DORMANT == 0
        && meant == found
        && WAYS.into_iter().all(|way| chains.iter().any(at_hooks(way)));
    Ok(Some(Door { shut, intact, turned_away }))
}

impl Shut {
    fn text(&self) -> String {
        let Self { since, until, session, why } = self;
        let until = until.map_or(0, Time::seconds);
        let session = session.map_or("-".to_owned(), |it| {
            format!("{},{},{},{}", it.client, it.client_port, it.server, it.port)
        });
        let mut end = why.len().min(REASON);
        while !why.is_char_boundary(end) {
            end -= 1;
        }
        format!("{since} {until} {session} {}", &why[..end])
    }

    fn parse(text: &str) -> Option<Self> {
        let mut words = text.splitn(4, ' ');
        let since = words.next()?.parse().ok()?;
        let until: i64 = words.next()?.parse().ok()?;
        let session = match words.next()? {
            "-" => None,
            ends => {
                let mut ends = ends.split(',');
                Some(Session {
                    client: ends.next()?.parse().ok()?,
                    client_port: ends.next()?.parse().ok()?,
                    server: ends.next()?.parse().ok()?,
                    port: ends.next()?.parse().ok()?,
                })
            }
        };
        let until = (until != 0).then(|| Time::from_seconds(until));
        Some(Self { since, until, session, why: words.next()?.to_owned() })
    }

    /// The rules, each with the name of its chain.
    fn rules(&self) -> Vec<(String, Vec<Expression>)> {
        let mut rules = Vec::new();
        for (name, _) in WAYS {
            let mut lead: Vec<Expression> = self.until.map(before).into_iter().flatten().collect();
            lead.push(Expression::Immediate(Verdict::Goto(held(name))));
            rules.push((name.to_owned(), lead));
            let inner = match name {
                "inbound" => self.way(true),
                "outbound" => self.way(false),
                _ => Vec::new(),
            };
            let stop = vec![counter(), Expression::Immediate(Verdict::Drop)];
            rules.extend(inner.into_iter().chain([stop]).map(|it| (held(name), it)));
        }
        rules
    }

    /// What passes all the same: loopback, and the session with what keeps its way known.
    fn way(&self, inbound: bool) -> Vec<Vec<Expression>> {
        let accept = Expression::Immediate(Verdict::Accept);
        let key = if inbound { MetaKey::InInterfaceName } else { MetaKey::OutInterfaceName };
        let mut loopback = LOOPBACK.as_bytes().to_vec();
        loopback.resize(16, 0);
        let mut rules =
            vec![vec![Expression::Meta { key, register: FIRST }, equal(loopback), accept.clone()]];
        let Some(session) = self.session else { return rules };
        let own = (session.server, session.port);
        let peer = (session.client, session.client_port);
        let (source, destination) = if inbound { (peer, own) } else { (own, peer) };
        let (version, offsets) = match session.client {
            IpAddr::V4(_) => (FAMILY_IPV4, (12, 16, 4)),
            IpAddr::V6(_) => (FAMILY_IPV6, (8, 24, 16)),
        };
        let of = |protocol: u8| {
            vec![
                Expression::Meta { key: MetaKey::Family, register: FIRST },
                equal(vec![version]),
                Expression::Meta { key: MetaKey::Protocol, register: FIRST },
                equal(vec![protocol]),
            ]
        };
        let mut exactly = of(TCP);
        for (offset, address) in [(offsets.0, source.0), (offsets.1, destination.0)] {
            exactly.push(payload(Base::Network, offset, offsets.2));
            exactly.push(equal(match address {
                IpAddr::V4(it) => it.octets().to_vec(),
                IpAddr::V6(it) => it.octets().to_vec(),
            }));
        }
        exactly.push(payload(Base::Transport, 0, 4));
        exactly.push(equal([source.1.to_be_bytes(), destination.1.to_be_bytes()].concat()));
        exactly.push(accept.clone());
        rules.push(exactly);
        // Neighbours and routers (RFC 4861), and that a packet was too big (RFC 792, RFC 4443).
        let kinds: &[u8] = match (session.client, inbound) {
            (IpAddr::V4(_), true) => &[3],
            (IpAddr::V4(_), false) => &[],
            (IpAddr::V6(_), true) => &[2, 133, 134, 135, 136],
            (IpAddr::V6(_), false) => &[133, 135, 136],
        };
        let protocol = if session.client.is_ipv4() { ICMP } else { ICMPV6 };
        for kind in kinds {
            let mut steps = of(protocol);
            steps.extend([payload(Base::Transport, 0, 1), equal(vec![*kind]), accept.clone()]);
            rules.push(steps);
        }
        rules
    }
}

/// The chain that turns away.
fn held(name: &str) -> String {
    format!("{name}/shut")
}

fn chain(name: &str, hook: Option<u32>) -> nf::Chain {
    nf::Chain {
        table: TABLE.into(),
        name: name.into(),
        family: FAMILY_INET,
        kind: hook.map(|_| "filter".into()),
        hook: hook.map(|number| Hook { number, priority: PRIORITY }),
        policy: hook.map(|_| 1),
    }
}

fn payload(base: Base, offset: u32, length: u32) -> Expression {
    Expression::Payload { base, offset, length, register: FIRST }
}

fn equal(data: Vec<u8>) -> Expression {
    Expression::Cmp { register: FIRST, op: Compare::Equal, data }
}

fn counter() -> Expression {
    Expression::Counter { packets: 0, bytes: 0 }
}

#[cfg(test)]
mod tests {
    use super::{REASON, Session, Shut};
    use tipstaff_core::policy::Time;

    #[test]
    fn how_it_was_shut_is_read_as_it_was_written() {
        let address = |text: &str| text.parse().expect("an address");
        let session = Session {
            client: address("2001:db8:51::7"),
            client_port: 50_312,
            server: address("2001:db8:2::10"),
            port: 2_202,
        };
        for (until, session, why) in [
            (None, None, String::new()),
            (Some(Time::from_seconds(9)), Some(session), "somebody is in, look ✓".into()),
        ] {
            let shut = Shut { since: 1_800_000_000, until, session, why };
            assert_eq!(Shut::parse(&shut.text()), Some(shut));
        }
        let long = Shut { since: 1, until: None, session: None, why: "✓".repeat(500) };
        let told = Shut::parse(&long.text()).expect("read");
        assert!(told.why.len() <= REASON && long.why.starts_with(&told.why));
        for wrong in ["", "1", "1 2", "1 2 -", "x 0 - why", "1 0 a,b,c,d why"] {
            assert_eq!(Shut::parse(wrong), None, "{wrong}");
        }
    }
}
