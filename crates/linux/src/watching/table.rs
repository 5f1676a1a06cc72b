//! The table by which packets are traced.

use super::known::Known;
use crate::LinuxError;
use crate::ruleset::{Ledger, WATCH_TABLES, rules_of, send};
use crate::transport::Transport;
use rustix::rand::{GetRandomFlags, getrandom};
use tipstaff_core::plan::LOOPBACK;
use tipstaff_wire::nf_tables::{
    self as nf, Batch, Compare, Element, Expression, Hook, Limit, MetaKey, STATE_BITS, Set, Table,
    ct, registers,
};

/// `NFT_TABLE_F_OWNER`: only the socket that made it may change it, and it goes with that.
const OWNED: u32 = 2;
/// Right ahead of our own chains.
const PRIORITY: i32 = -1;
/// No more packets a second are traced: each is told in some eight messages.
const MOST: u32 = 10_000;
const DOING: &str = "watch decisions (kernels before 5.12 cannot)";

/// The set of IP versions that are traced: to be emptied, so that nothing is traced any more, and what was counted
/// can still be read.
fn versions(table: &str) -> Set {
    Set { table: table.into(), name: "versions".into(), key_length: 1, id: 1, ..Set::default() }
}

/// A name that no other one has.
pub(super) fn name() -> String {
    let mut bytes = [0; 8];
    // Where there is no chance, the process tells them apart.
    let chance = getrandom(&mut bytes, GetRandomFlags::empty()).is_ok();
    let number = if chance { u64::from_ne_bytes(bytes) } else { std::process::id().into() };
    format!("{WATCH_TABLES}{number:016x}")
}

/// Makes it.
pub(super) fn make(
    owner: &mut dyn Transport,
    table: &str,
    known: &Known,
) -> Result<(), LinuxError> {
    let mut batch = Batch::begin(owner.next_sequence());
    batch.new_table(&Table { name: table.into(), flags: OWNED, ..Table::default() });
    batch.new_set(&versions(table));
    let both = [nf::FAMILY_IPV4, nf::FAMILY_IPV6].map(|it| Element::key(vec![it]));
    batch.new_elements(&versions(table), &both);
    for (name, hook) in
        [("inbound", Hook::LOCAL_IN), ("forwarded", Hook::FORWARD), ("outbound", Hook::LOCAL_OUT)]
    {
        batch.new_chain(&nf::Chain {
            table: table.into(),
            name: name.into(),
            kind: Some("filter".into()),
            hook: Some(Hook { number: hook, priority: PRIORITY }),
            policy: Some(1),
            ..nf::Chain::default()
        });
        let link = match hook {
            Hook::LOCAL_OUT => MetaKey::OutInterfaceName,
            _ => MetaKey::InInterfaceName,
        };
        batch.new_rule(&nf::Rule {
            table: table.into(),
            chain: name.into(),
            expressions: steps(table, link, known.tracks()),
            ..nf::Rule::default()
        });
    }
    send(owner, DOING, batch, &Ledger::default())
}

/// What goes on in a connection that was decided about is no decision, and what this machine tells itself is
/// nobody's business.
fn steps(table: &str, link: MetaKey, tracked: bool) -> Vec<Expression> {
    const FIRST: u32 = registers::FIRST;
    let [invalid, _, _, new, untracked] = STATE_BITS;
    let mut loopback = LOOPBACK.as_bytes().to_vec();
    loopback.resize(16, 0);
    let Set { name: set, id, .. } = versions(table);
    let mut steps = vec![
        Expression::Meta { key: MetaKey::Family, register: FIRST },
        Expression::Lookup { set, register: FIRST, to_verdict: false, id, flags: 0 },
        Expression::Meta { key: link, register: FIRST },
        Expression::Cmp { register: FIRST, op: Compare::NotEqual, data: loopback },
    ];
    if tracked {
        let mask = (invalid | new | untracked).to_ne_bytes().to_vec();
        steps.extend([
            Expression::Ct { key: ct::STATE, register: FIRST },
            Expression::Bitwise {
                source: FIRST,
                destination: FIRST,
                length: 4,
                mask,
                xor: vec![0; 4],
            },
            Expression::Cmp { register: FIRST, op: Compare::NotEqual, data: vec![0; 4] },
        ]);
    }
    steps.extend([
        Expression::Counter { packets: 0, bytes: 0 },
        Expression::Limit(Limit { rate: MOST.into(), unit: 1, burst: MOST, kind: 0, flags: 0 }),
        Expression::Load { register: FIRST, data: vec![1] },
        Expression::MetaSet { key: MetaKey::Traced, source: FIRST },
    ]);
    steps
}

/// How many packets came to be decided.
pub(super) fn count(transport: &mut dyn Transport, table: &str) -> Result<u64, LinuxError> {
    let rules = rules_of(transport, "count decisions", table)?;
    let steps = rules.iter().flat_map(|it| &it.expressions);
    let counts = steps.map(|it| match it {
        Expression::Counter { packets, .. } => *packets,
        _ => 0,
    });
    Ok(counts.sum())
}

/// Has it trace nothing any more; what it has counted can still be read.
pub(super) fn sleep(owner: &mut dyn Transport, table: &str) -> Result<(), LinuxError> {
    let mut batch = Batch::begin(owner.next_sequence());
    batch.empty_set(&versions(table));
    send(owner, "end watching", batch, &Ledger::default())
}
