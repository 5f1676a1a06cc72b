//! A plan on a machine whose interfaces have names of their own.

use crate::given::plan;
use tipstaff_core::plan::{HostPlan, LinkSeen, Standing, Whole};
use tipstaff_core::program::{lower, renamed};
use tipstaff_core::space::{Direction, HardwareAddress};

const POLICY: &str = r#"
edition = 1
[host.sluice]
addresses = ["192.0.2.10"]
interfaces = { outside = "52:54:00:5e:00:01", stacks = "eth1" }
[[host.sluice.rule]]
name = "closed"
deny = ["5432/tcp"]
ingress = ["outside"]
[[host.sluice.rule]]
name = "open"
allow = ["80/tcp"]
ingress = ["outside"]
[[host.sluice.rule]]
name = "inside"
allow = ["9100/tcp"]
ingress = ["stacks"]
"#;

fn link(name: &str, hardware: &str) -> LinkSeen {
    LinkSeen { name: name.into(), hardware: hardware.parse().ok(), ..LinkSeen::default() }
}

const OURS: &str = "52:54:00:5e:00:01";

/// How `outside` stands, and the interfaces by which three rules ask: `closed`, `open`, `inside`.
fn placed(links: &[LinkSeen]) -> (Standing, [Vec<String>; 3]) {
    let mut plan = plan(POLICY, "sluice");
    let placed = plan.place(links);
    let outside = placed.into_iter().find(|it| it.called == "outside").expect("it is named");
    assert_eq!(outside.rule.to_string(), "closed", "the first that denies");
    let asks = |rule: &str| {
        let chain = plan.chain(Direction::Inbound).decisions.iter();
        let decision = chain.clone().find(|it| it.id.to_string() == rule).expect("the rule");
        let names = decision.conditions.iter().filter_map(|it| it.in_interface.name());
        names.map(str::to_owned).collect()
    };
    (outside.standing, ["closed", "open", "inside"].map(asks))
}

fn list(names: &[&str]) -> Vec<String> {
    names.iter().map(|it| (*it).to_owned()).collect()
}

#[test]
fn a_hardware_address_means_whichever_interface_has_it() {
    let (standing, asked) = placed(&[link("wan0", OURS), link("eth1", "52:54:00:5e:00:02")]);
    assert_eq!(standing, Standing::Known("wan0".into()));
    assert_eq!(asked, [list(&["wan0"]), list(&["wan0"]), list(&["eth1"])]);
    // A VLAN upon it has the same address; one that changed its address was made with its own.
    let vlan = LinkSeen { is_derived: true, ..link("wan0.7", OURS) };
    assert_eq!(placed(&[vlan.clone(), link("wan0", OURS)]).0, Standing::Known("wan0".into()));
    assert_eq!(placed(&[vlan]).0, Standing::Known("wan0.7".into()));
    let other = LinkSeen { permanent: OURS.parse().ok(), ..link("changed", "02:00:00:00:00:09") };
    let borrowed = LinkSeen { permanent: "02:00:00:00:00:08".parse().ok(), ..link("eth9", OURS) };
    assert_eq!(placed(&[borrowed, other]).0, Standing::Known("changed".into()));
}

#[test]
fn what_is_not_plain_lets_nobody_in() {
    // A role is the name of nobody, though there may be one of that name.
    let (standing, asked) = placed(&[link("outside", "02:00:00:00:00:01")]);
    assert_eq!(standing, Standing::Missing);
    assert_eq!(asked, [list(&["outside/"]), list(&["outside/"]), list(&["eth1"])]);
    let (standing, asked) = placed(&[link("eth2", OURS), link("eth3", OURS)]);
    assert_eq!(standing, Standing::Several(list(&["eth2", "eth3"])));
    assert_eq!(asked, [list(&["eth2", "eth3"]), list(&["outside/"]), list(&["eth1"])]);
}

#[test]
fn a_part_goes_by_the_name_of_the_whole() {
    let part = |is_one_link| LinkSeen {
        part_of: Some(Whole { name: "whole0".into(), is_one_link }),
        ..link("eth0", OURS)
    };
    let (_, asked) = placed(&[part(true)]);
    assert_eq!(asked, [list(&["whole0"]), list(&["whole0"]), list(&["eth1"])]);
    // Others come in by a bridge too: they are denied, and not allowed.
    let (_, asked) = placed(&[part(false)]);
    assert_eq!(asked, [list(&["whole0"]), list(&["outside/"]), list(&["eth1"])]);
}

#[test]
fn a_program_for_other_names_is_recognised() {
    let on = |links: &[LinkSeen]| -> (HostPlan, Vec<String>) {
        let mut plan = plan(POLICY, "sluice");
        let placed = plan.place(links);
        (plan, placed.iter().flat_map(tipstaff_core::plan::Placed::names).collect())
    };
    let (meant, free) = on(&[link("eth1", OURS), link("eth0", "02:00:00:00:00:01")]);
    let (before, _) = on(&[link("eth0", OURS), link("eth1", "02:00:00:00:00:01")]);
    assert_ne!(lower(&meant), lower(&before));
    // `stacks` is eth1 in both: the two are told apart no more.
    assert!(renamed(&lower(&meant), &lower(&before), &free));
    let (meant, free) = on(&[link("wan0", OURS), link("eth1", "02:00:00:00:00:01")]);
    assert!(renamed(&lower(&meant), &lower(&before), &free));
    assert!(!renamed(&lower(&meant), &lower(&before), &[]), "no name may have changed");
    let other = POLICY.replace("5432", "5433");
    let mut other = plan(&other, "sluice");
    other.place(&[link("eth0", OURS)]);
    assert!(!renamed(&lower(&meant), &lower(&other), &free), "it is not the same");
}

#[test]
fn hardware_addresses_are_read_as_they_are_written() {
    let read = |text: &str| text.parse::<HardwareAddress>().map(|it| it.to_string());
    assert_eq!(read("52:54:00:AB:cd:0f"), Ok("52:54:00:ab:cd:0f".into()));
    assert_eq!(read("52-54-00-ab-cd-0f"), Ok("52:54:00:ab:cd:0f".into()));
    for wrong in ["", "52:54:00:ab:cd", "52:54:00:ab:cd:0f:11", "52:54:00:ab:cd:+f", "525400abcd0f"]
    {
        assert_eq!(read(wrong), Err(()), "{wrong}");
    }
    assert_eq!(HardwareAddress::of(&[0; 6]), None);
    assert_eq!(HardwareAddress::of(&[1; 20]), None);
}
