//! What a boot does where something became of our table.

use crate::booting::{POLICY, Reboot};
use crate::harness::give;
use std::fs;
use std::os::fd::AsFd;
use std::process::Stdio;
use std::time::{Duration, Instant};
use tipstaff_linux::lab::testing::sealed;
use tipstaff_linux::ruleset::TABLE;
use tipstaff_wire::nf_tables as nf;

/// What is left of our table after a mishap.
type Harm = fn(&mut nf::Batch);

const ASLEEP: Harm = |batch| {
    let table = nf::Table { name: TABLE.into(), flags: 1, ..nf::Table::default() };
    batch.new_table(&table);
};
const GONE: Harm = |batch| {
    batch.delete_table(TABLE);
};
const HOLLOW: Harm = |batch| {
    batch.delete_table(TABLE);
    batch.new_table(&nf::Table { name: TABLE.into(), ..nf::Table::default() });
};

const EMPTIED: Harm = |batch| {
    batch.delete_rules(TABLE);
};

impl Reboot {
    fn harm(&self, by: Harm) {
        self.meddle(by);
        assert!(self.open(443), "everything passes");
    }

    fn meddle(&self, by: Harm) {
        let send = || {
            let mut batch = nf::Batch::begin(1);
            by(&mut batch);
            give(batch);
        };
        self.sluice().run(send).expect("run");
    }
}

/// While somebody else has the docket, all but the shell is closed already.
#[test]
fn a_boot_closes_before_it_looks() {
    sealed("mishaps::a_boot_closes_before_it_looks", || {
        let reboot = Reboot::with(POLICY);
        reboot.run(&["enforce", "--keep"]).exits(0);
        for by in [GONE, ASLEEP, HOLLOW] {
            reboot.harm(by);
            let lock = fs::File::options().read(true).write(true).open(reboot.kept("lock"));
            let lock = lock.expect("the docket's");
            tipstaff_linux::lock_for_writing(lock.as_fd()).expect("nobody has it");
            let mut command = reboot.desk.command(["enforce", "--boot"]);
            command.stdout(Stdio::null()).stderr(Stdio::null());
            reboot.sluice().start_here(&mut command).expect("it can start there");
            let mut boot = command.spawn().expect("it starts");
            let begun = Instant::now();
            while reboot.open(80) {
                assert!(begun.elapsed() < Duration::from_secs(3), "it is closed at once");
            }
            assert!(reboot.open(2022), "but for the shell");
            assert!(boot.try_wait().expect("looked at").is_none(), "it waits for the docket");
            drop(lock);
            boot.wait().expect("done");
            assert!(reboot.open(80) && !reboot.open(443));
        }
    });
}

#[test]
fn rules_that_are_gone_are_put_back() {
    sealed("mishaps::rules_that_are_gone_are_put_back", || {
        let reboot = Reboot::with(POLICY);
        let again = |code| {
            let said = reboot.desk.on(reboot.sluice(), ["enforce", "--boot", "--if-gone"]);
            said.exits(code).stdout
        };
        let said = again(1);
        assert!(said.contains("no policy was confirmed yet"), "never configured: {said}");
        assert!(reboot.open(443));
        reboot.run(&["enforce", "--keep"]).exits(0);
        let there = "nothing loaded: rules of sluice are in the kernel\n";
        assert_eq!(again(0), there);
        let harms = [
            ("our table was asleep", ASLEEP),
            ("our rules were gone from the kernel", GONE),
            ("our rules were gone from our table", HOLLOW),
        ];
        for (word, by) in harms {
            reboot.harm(by);
            let said = again(1);
            assert!(said.starts_with("loaded sluice, as of entry 1\n"), "{word}: {said}");
            assert!(said.contains(word), "{word}: {said}");
            assert!(reboot.open(80) && reboot.open(2022) && !reboot.open(443), "{word}");
            assert_eq!(again(0), there);
        }
        // What else is left of it lets nobody in, and decides nothing.
        reboot.meddle(EMPTIED);
        assert!(!reboot.open(80) && !reboot.open(2022));
        assert!(again(1).contains("our rules were gone from our table"));
        assert!(reboot.open(80) && reboot.open(2022));
        // What waits is its own way back's business: nothing is taken away from under it.
        reboot.run(&["release", "--confirm-within", "600"]).exits(0);
        assert_eq!(again(0), "nothing loaded: a change waits to be confirmed\n");
        assert!(reboot.open(443));
        reboot.run(&["confirm"]).exits(0);
        // Out of the kernel, and that was confirmed.
        let said = again(0);
        assert!(said.starts_with("nothing loaded: the rules were released"), "{said}");
        assert!(reboot.open(443));
    });
}
