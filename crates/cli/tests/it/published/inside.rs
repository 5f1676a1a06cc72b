//! Ports that are led elsewhere, seen from inside as well: from the same network as the machine to which they lead.

use super::tables::*;
use super::ways::{Found, OPEN, THERE};
use super::{CURATORS, POLICY, Vantage, take_away, told, world_in};
use crate::harness::{Desk, give};
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary_bench};
use tipstaff_wire::nf_tables::{Expression as E, Hook};

const BENCH: Vantage = ("bench", "eth1", ["10.44.8.10", "fd44:8::10"]);
const THERE_V6: &str = "[fd44:8::20]:80";

struct Seen {
    name: &'static str,
    tables: Vec<Table>,
    /// What curators, and what bench meet; nothing where they are not led.
    curators: Option<Found>,
    bench: Option<Found>,
    exit: i32,
}

/// One table with these rules; behind them, if wished, what passes has the host's own address as its sender.
fn table(rules: &[Vec<Vec<E>>], masked: bool) -> Vec<Table> {
    let mut table = Table::new("almanac", -100);
    for parts in rules {
        table.rule("porter", parts);
    }
    if masked {
        table.chain("behind", "nat", Some((Hook::POST_ROUTING, 100)));
        table.rule(
            "behind",
            &[protocol(TCP), vec![E::Other { name: "masq".into(), data: Vec::new() }]],
        );
    }
    vec![table]
}

fn all() -> Vec<Seen> {
    let v4 = || [version(2), protocol(TCP)].concat();
    let v6 = || [version(10), protocol(TCP)].concat();
    let web = || vec![v4(), port(8088), to("10.44.8.20", Some(80))];
    let web_v6 = || vec![v6(), port(8088), to("fd44:8::20", Some(80))];
    let found = |to| Some(("8088/tcp", to, OPEN));
    let there = found(THERE);
    let seen = |name, tables, curators, bench| Seen { name, tables, curators, bench, exit: 0 };
    vec![
        seen("and back the way it came", table(&[web()], true), there, there),
        // The answer goes straight to whoever asked another.
        Seen {
            exit: 1,
            ..seen(
                "and back past who led it",
                table(&[web()], false),
                there,
                Some(("8088/tcp", THERE, "allow allow silent")),
            )
        },
        seen(
            "by the link outside alone",
            table(&[[vec![by("eth0")], web()].concat()], true),
            there,
            None,
        ),
        seen(
            "by the link inside alone",
            table(&[[vec![by("eth1")], web()].concat()], true),
            None,
            there,
        ),
        seen(
            "at its address inside",
            table(&[vec![v4(), at([10, 44, 8, 10]), port(8088), to("10.44.8.20", Some(80))]], true),
            None,
            there,
        ),
        seen(
            "over IPv6, and back the way it came",
            table(&[web_v6()], true),
            found(THERE_V6),
            found(THERE_V6),
        ),
        seen(
            "to itself, from both sides",
            table(&[vec![v4(), port(8088), here(443)]], false),
            found("192.0.2.10:443"),
            found("10.44.8.10:443"),
        ),
        seen(
            "to where nobody may, from both sides",
            table(&[vec![v4(), port(8088), to("10.44.8.20", Some(5432))]], true),
            Some(("8088/tcp", "10.44.8.20:5432", "deny deny silent")),
            Some(("8088/tcp", "10.44.8.20:5432", "deny deny silent")),
        ),
        seen("nowhere, though senders are others behind", table(&[], true), None, None),
    ]
}

#[test]
fn whoever_comes_from_inside_is_told_too() {
    sealed("published::inside::whoever_comes_from_inside_is_told_too", || {
        let (lab, _servers, _names) = world_in(street_sluice_granary_bench());
        let node = |name| lab.node(name).expect("it");
        let (sluice, street, bench) = (node("sluice"), node("street"), node("bench"));
        let place = "[place.bench]\naddresses = [\"10.44.8.30\", \"fd44:8::30\"]\n[host.sluice]";
        let desk = Desk::with(POLICY.replace("[host.sluice]", place));
        desk.on(sluice, ["enforce", "--keep", "--even-if-locked-out"]).exits(0);
        let file = |node: &tipstaff_linux::lab::Node| node.namespace().file();
        let vantages: Vec<String> = [("curators", street), ("strangers", street), ("bench", bench)]
            .map(|(place, node)| format!("--vantage={place}=netns:{}", file(node).display()))
            .into();
        for Seen { name, tables, curators, bench, exit } in all() {
            sluice.run(|| tables.into_iter().for_each(|it| give(it.batch))).expect("entered");
            let words = ["reach", "--format", "json", "--patience", "0.5"].map(str::to_owned);
            let report = desk.on(sluice, words.iter().chain(&vantages)).exits(exit).json();
            let explained =
                report.to_string().contains("is on the sender's own link and answers it directly");
            assert_eq!(explained, exit == 1, "{name}: {report:#}");
            for (vantage, wanted) in [(CURATORS, curators), (BENCH, bench)] {
                let told = told(&report, vantage);
                let wanted: Vec<_> = wanted.iter().map(|it| (it.0, it.1, it.2)).collect();
                let found: Vec<_> = told.iter().map(|it| (&*it.0, &*it.1, &*it.2)).collect();
                assert_eq!(found, wanted, "{name}, {}: {report:#}", vantage.0);
            }
            take_away(sluice, &["almanac"]);
        }
    });
}
