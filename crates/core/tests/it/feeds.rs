//! Places from files: what files say, what is kept of it, and what speaks against taking it.

use proptest::prelude::*;
use tipstaff_core::plan::resolve;
use tipstaff_core::policy::feed::{Doubt, Refused, column, delegations, doubts, list};
use tipstaff_core::policy::{Policy, Snapshot, Source, Time, read_all};
use tipstaff_core::program::lower;
use tipstaff_core::space::AddressSet;

const REGISTRY: &str = "2|fictional|20261101|6|19840101|20261101|+0000\n\
    fictional|*|asn|*|1|summary\nfictional|*|ipv4|*|3|summary\nfictional|*|ipv6|*|2|summary\n\
    fictional|XA|asn|64500|1|20200101|allocated|a\n\
    fictional|XA|ipv4|203.0.113.0|96|20200101|allocated|a\n\
    fictional|XB|ipv4|203.0.113.96|32|20200101|assigned|b\n\
    fictional|XA|ipv6|2001:db8:a::|48|20200101|allocated|a\n\
    fictional|XC|ipv6|2001:db8:c::|48|20200101|allocated|c\n\
    fictional||ipv4|203.0.113.128|128|20200101|available|\n";

fn told(refused: Result<AddressSet, Refused>) -> Vec<String> {
    refused.expect_err("it is refused").first.iter().map(ToString::to_string).collect()
}

#[test]
fn lists_are_taken_whole_or_not_at_all() {
    let text = "# nuisance\n203.0.113.66\n\n 198.51.100.0/24 # all of it\r\n2001:db8:bad::/48\n\
                10.44.8.20-10.44.8.29\n";
    let set = list(text, false).expect("a list");
    assert_eq!(
        set.to_string(),
        "10.44.8.20/30, 10.44.8.24/30, 10.44.8.28/31, 198.51.100.0/24, 203.0.113.66, 2001:db8:bad::/48"
    );
    assert!(list("", false).expect("nothing").is_empty());
    // Cut off within an address, it would be another address.
    assert_eq!(
        told(list("198.51.100.1\n198.51.100.1", false)),
        ["line 2 has no end: the file may be cut off"]
    );
    assert!(list("198.51.100.1\n198.51.100.1", true).is_ok());
    let page = "<!doctype html>\n<html>\n<body>\nLog in\n</body>\n";
    let refused = list(page, false).expect_err("no list");
    assert_eq!((refused.first.len(), refused.count), (3, 5));
    assert_eq!(refused.first[0].to_string(), "line 1 says `<!doctype html>`, which is no address");
    let wrong = "198.51.100.7/24\n198.51.100.9-198.51.100.3\n300.0.0.1\n";
    assert_eq!(
        told(list(wrong, false)),
        [
            "line 1 says `198.51.100.7/24`, which may mean 198.51.100.0/24 or 198.51.100.7",
            "line 2 says `198.51.100.9-198.51.100.3`, which is no range",
            "line 3 says `300.0.0.1`, which is no address",
        ]
    );
    let hostile = "\u{1b}[2Jx\n";
    assert_eq!(told(list(hostile, false)), ["line 1 says `\\u{1b}[2Jx`, which is no address"]);
}

#[test]
fn a_column_is_found_by_its_name() {
    let text = "name,network\n\"mill, old\",192.0.2.128/25\nferry,2001:db8:f::/48\n,\n";
    let set = column(text, "network", false).expect("a table");
    assert_eq!(set.to_string(), "192.0.2.128/25, 2001:db8:f::/48");
    assert_eq!(
        told(column(text, "net", false)),
        ["it has no column `net`; there are: name, network"]
    );
    assert_eq!(
        told(column("network\n192.0.2.1,x\n", "network", false)),
        ["line 2 has not as many fields as the first"]
    );
    assert_eq!(
        told(column("a,network\nx,mill\n", "network", false)),
        ["line 2 says `mill`, which is no address"]
    );
    assert_eq!(
        told(column("network\n192.0.2.1\n192.0.2.1", "network", false)),
        ["line 3 has no end: the file may be cut off"]
    );
}

#[test]
fn registries_say_whose_addresses_are_whose() {
    let of = |codes: &[&str]| {
        let codes: Vec<String> = codes.iter().map(|it| (*it).to_owned()).collect();
        delegations(REGISTRY, &codes).expect("delegations").to_string()
    };
    // 96 addresses are no single network.
    assert_eq!(of(&["XA"]), "203.0.113.0/26, 203.0.113.64/27, 2001:db8:a::/48");
    assert_eq!(of(&["XB", "XC"]), "203.0.113.96/27, 2001:db8:c::/48");
    assert_eq!(of(&["XD"]), "");
    let codes = ["XA".to_owned()];
    // Cut off at the end of any line behind the head, it is not whole.
    let lines: Vec<&str> = REGISTRY.split_inclusive('\n').collect();
    for kept in 1..lines.len() {
        assert!(delegations(&lines[..kept].concat(), &codes).is_err(), "{kept} lines");
    }
    // Or within a line, unless that leaves no more than a remark of the registry's out.
    let remarked = REGISTRY.len() - "available|\n".len();
    for at in (lines[0].len()..remarked).filter(|at| REGISTRY.as_bytes()[*at] != b'\n') {
        assert!(delegations(&REGISTRY[..at], &codes).is_err(), "{}", &REGISTRY[..at]);
    }
    for (wrong, why) in [
        ("<html>\n", "line 1 is no head of a delegation file: `<html>`"),
        ("", "it is empty"),
        (&REGISTRY.replace("|64|", "|0|").replace("|96|", "|0|"), "line 6 is no record"),
        (&REGISTRY.replace("2001:db8:a::|48", "2001:db8:a::1|48"), "line 8 is no record"),
        (&REGISTRY.replace("203.0.113.128|128", "255.255.255.128|256"), "line 10 is no record"),
    ] {
        let first = told(delegations(wrong, &codes)).swap_remove(0);
        assert!(first.starts_with(why), "{first}");
    }
}

#[test]
fn what_is_hardly_meant_is_doubted() {
    let set = |text: &str| list(text, true).expect("a list");
    let many = |count: u32| {
        AddressSet::from_v4((0..count).map(|it| (0xc633_6400 + it * 2, 0xc633_6400 + it * 2)))
    };
    let words = |before: &AddressSet, now: &AddressSet| {
        doubts(Some(before), now).iter().filter_map(Doubt::word).collect::<Vec<_>>()
    };
    assert_eq!(doubts(None, &AddressSet::empty()), [Doubt::Empty]);
    assert_eq!(doubts(Some(&many(100)), &AddressSet::empty()), [Doubt::Empty]);
    assert!(Doubt::Empty.word().is_none());
    assert_eq!(words(&many(100), &many(49)), ["shrunk"]);
    assert!(words(&many(100), &many(50)).is_empty());
    assert!(words(&many(100), &many(199)).is_empty());
    assert_eq!(words(&many(100), &many(200)), ["grown"]);
    // Of a few, some may come and go.
    assert!(words(&many(2), &many(9)).is_empty());
    for all in ["0.0.0.0/0\n", "0.0.0.0/1\n128.0.0.0/1\n", "::/0\n", "2000::/3\n"] {
        let found = doubts(None, &set(all));
        assert!(matches!(found[..], [Doubt::Everything(_)]), "{all}: {found:?}");
    }
    // One line that is a thousand times as much.
    assert_eq!(words(&many(100), &many(100).union(&set("10.0.0.0/8\n"))), ["grown"]);
    assert_eq!(words(&set("2001:db8::/48\n"), &set("2001:db8::/32\n")), ["grown"]);
}

fn kept(place: &str, of: &str, addresses: AddressSet) -> Snapshot {
    let new = Snapshot {
        place: place.into(),
        of: of.into(),
        taken: Time::from_seconds(1_800_000_000),
        digest: "0".repeat(64),
        changed: (0, 0),
        lines: 0,
        held: Vec::new(),
        addresses,
    };
    Snapshot::after(None, new)
}

fn source(snapshot: &Snapshot) -> Source {
    Source::of_place(&snapshot.place, &format!("{}.snapshot", snapshot.place), &snapshot.to_text())
}

fn addresses() -> impl Strategy<Value = AddressSet> {
    let v4 = prop::collection::vec((any::<u32>(), 0_u32..5_000), 0..40);
    let v6 = prop::collection::vec((any::<u128>(), 0_u128..1 << 80), 0..40);
    let edges = prop_oneof![
        Just(AddressSet::empty()),
        Just(AddressSet::full()),
        Just(AddressSet::from_v4([(0, 0), (u32::MAX, u32::MAX)])),
    ];
    (v4, v6, edges).prop_map(|(v4, v6, edges)| {
        let v4 = v4.into_iter().map(|(first, more)| (first, first.saturating_add(more)));
        let v6 = v6.into_iter().map(|(first, more)| (first, first.saturating_add(more)));
        AddressSet::from_v4(v4).union(&AddressSet::from_v6(v6)).union(&edges)
    })
}

proptest! {
    #[test]
    fn what_is_kept_is_read_back(before in addresses(), now in addresses()) {
        let before = kept("mill", "file \"a\"", before);
        let made = Snapshot { addresses: now.clone(), ..before.clone() };
        let made = Snapshot::after(Some(&before), made);
        let read = Snapshot::parse(&source(&made)).expect("as it was written");
        prop_assert_eq!(&read, &made);
        let old = before.lines;
        prop_assert_eq!(made.lines + made.changed.1, old + made.changed.0);
        prop_assert_eq!(made.changed == (0, 0), before.addresses == now);
    }

    /// Whatever is done to it, a snapshot is read as it was written, or not at all.
    #[test]
    fn a_damaged_one_is_noticed(set in addresses(), at in any::<prop::sample::Index>()) {
        let text = kept("mill", "file \"a\"", set).to_text();
        let cut = at.index(text.len());
        let cut = (0..=cut).rev().find(|it| text.is_char_boundary(*it)).expect("zero is one");
        let shorter = Source::of_place("mill", "mill.snapshot", &text[..cut]);
        prop_assert!(Snapshot::parse(&shorter).is_err(), "{}", &text[..cut]);
    }
}

fn policy(snapshots: &[Snapshot]) -> Result<Policy, String> {
    let text = "edition = 1\ndelegations = \"registry.txt\"\n\
        [place.curators]\naddresses = [\"198.51.100.0/27\"]\n\
        [place.nuisance]\nfile = \"nuisance.txt\"\naddresses = [\"203.0.113.66\"]\nexcept = [\"curators\", \"203.0.113.9\"]\n\
        [place.far]\ncountry = [\"XA\"]\n\
        [host.sluice]\naddresses = [\"192.0.2.10\"]\n\
        [[host.sluice.rule]]\nname = \"not-them\"\ndeny = [\"any\"]\nfrom = [\"nuisance\"]\n\
        [[host.sluice.rule]]\nname = \"web\"\nallow = [\"443/tcp\"]\nfrom = [\"far\", \"curators\"]\n";
    let mut sources = vec![Source::new("policy.toml", text)];
    sources.extend(snapshots.iter().map(source));
    read_all(&sources).map_err(|it| format!("{it:?}"))
}

#[test]
fn a_place_holds_what_was_read_and_what_is_written_but_for_exceptions() {
    let said = list("198.51.100.0/24\n203.0.113.8/30\n", false).expect("a list");
    let nuisance = kept("nuisance", "file \"nuisance.txt\"", said);
    let far = kept(
        "far",
        "country \"XA\" of \"registry.txt\"",
        list("192.0.2.128/25\n", false).expect("a list"),
    );
    let unused = kept("nowhere", "file \"x\"", AddressSet::full());
    let policy = policy(&[nuisance.clone(), far.clone(), unused]).expect("a policy");
    let holds = |name: &str| policy.place(name).expect("it").addresses.to_string();
    assert_eq!(
        holds("nuisance"),
        "198.51.100.32/27, 198.51.100.64/26, 198.51.100.128/25, 203.0.113.8, 203.0.113.10/31, 203.0.113.66"
    );
    assert_eq!(holds("far"), "192.0.2.128/25");
    assert!(policy.not_read_yet().is_empty());
    // What nobody uses is no part of what the policy says.
    let names: Vec<&str> = policy.sources.iter().map(|it| &*it.name).collect();
    assert_eq!(names, ["policy.toml", "nuisance.snapshot", "far.snapshot"]);

    let unread = self::policy(&[far]).expect("a policy").not_read_yet();
    let codes: Vec<&str> = unread.iter().map(|it| it.code).collect();
    assert_eq!((codes, unread[0].message.contains("nuisance")), (vec!["not-read-yet"], true));
    // A snapshot of other files says nothing about these.
    let others = Snapshot { of: "file \"other.txt\"".into(), ..nuisance };
    assert_eq!(self::policy(&[others]).expect("a policy").not_read_yet().len(), 2);
}

#[test]
fn a_place_that_holds_nobody_lets_nobody_in() {
    let nobody = kept("nuisance", "file \"nuisance.txt\"", AddressSet::empty());
    let far = kept("far", "country \"XA\" of \"registry.txt\"", AddressSet::empty());
    let text_of = |policy: &Policy| {
        let plan = resolve(policy, "sluice", Time::from_seconds(0)).expect("the host");
        let program = lower(&plan);
        let rules = program.chains.iter().flat_map(|it| &it.rules);
        let of = |name: &str| {
            rules
                .clone()
                .filter(|it| it.id.as_ref().is_some_and(|id| id.to_string() == name))
                .count()
        };
        [of("not-them"), of("web")]
    };
    let policy = policy(&[nobody, far]).expect("a policy");
    // Written beside the files: one address, which is turned away; of `far` only the curators are left.
    assert_eq!(text_of(&policy), [1, 1]);
    let only = "edition = 1\n[place.far]\nfile = \"far.txt\"\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
                [[host.sluice.rule]]\nname = \"web\"\nallow = [\"443/tcp\"]\nfrom = [\"far\"]\n";
    let far = kept("far", "file \"far.txt\"", AddressSet::empty());
    let policy = read_all(&[Source::new("policy.toml", only), source(&far)]).expect("a policy");
    assert_eq!(text_of(&policy), [0, 0]);
}
