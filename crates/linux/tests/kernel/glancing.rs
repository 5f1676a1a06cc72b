//! Whether rules of ours decide, at a glance: what is asked for does not grow with them.

use crate::world::{netfilter, plan};
use std::io;
use tipstaff_core::generate::Generator;
use tipstaff_core::program::lower;
use tipstaff_core::space::Direction;
use tipstaff_linux::lab::testing::sealed;
use tipstaff_linux::ruleset::{TABLE, enforce, glance, read};
use tipstaff_linux::{NetlinkSocket, Transport, deliver};
use tipstaff_wire::nf_tables::{self as nf, Batch};

/// Counts the bytes that come.
struct Weighed {
    kernel: NetlinkSocket,
    bytes: usize,
}

impl Weighed {
    fn on(kernel: NetlinkSocket) -> Self {
        Self { kernel, bytes: 0 }
    }
}

impl Transport for Weighed {
    fn send(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.kernel.send(bytes)
    }

    fn receive(&mut self) -> io::Result<Vec<u8>> {
        let bytes = self.kernel.receive()?;
        self.bytes += bytes.len();
        Ok(bytes)
    }

    fn next_sequence(&mut self) -> u32 {
        self.kernel.next_sequence()
    }
}

/// Somebody else changes our table.
fn change(make: impl FnOnce(&mut Batch)) {
    let mut batch = Batch::begin(1);
    make(&mut batch);
    let batch = batch.finish().expect("fits");
    assert_eq!(deliver(&mut netfilter(), "meddle", &batch).expect("answered"), []);
}

#[test]
fn rules_that_decide_are_seen_at_a_glance() {
    sealed("glancing::rules_that_decide_are_seen_at_a_glance", || {
        let host = || glance(&mut netfilter()).expect("looked");
        assert_eq!(host(), None, "nothing is there");
        let program = lower(&plan(&Generator::new(1).long_policy(3)));
        let enforced = || enforce(&mut netfilter(), "sluice", &program).expect("enforced");
        enforced();
        assert_eq!(host().as_deref(), Some("sluice"));
        change(|batch| {
            batch.new_table(&nf::Table { name: TABLE.into(), flags: 1, ..nf::Table::default() });
        });
        assert_eq!(host(), None, "asleep");
        enforced();
        assert_eq!(host().as_deref(), Some("sluice"), "awake again");
        // Chains that no packet enters decide nothing, whatever is in them.
        change(|batch| {
            for direction in Direction::ALL {
                batch.delete_rule(TABLE, direction.as_str(), None);
            }
        });
        assert_eq!(host(), None, "hollow");
        enforced();
        change(|batch| {
            batch.delete_table(TABLE);
        });
        assert_eq!(host(), None, "gone");
    });
}

#[test]
fn a_glance_does_not_read_what_many_rules_became() {
    sealed("glancing::a_glance_does_not_read_what_many_rules_became", || {
        let program = lower(&plan(&Generator::new(1).long_policy(2_000)));
        enforce(&mut netfilter(), "sluice", &program).expect("enforced");
        let (mut all, mut some) = (Weighed::on(netfilter()), Weighed::on(netfilter()));
        assert!(read(&mut all).expect("read").is_some());
        assert_eq!(glance(&mut some).expect("looked").as_deref(), Some("sluice"));
        assert!(some.bytes * 10 < all.bytes, "{} of {} bytes", some.bytes, all.bytes);
    });
}
