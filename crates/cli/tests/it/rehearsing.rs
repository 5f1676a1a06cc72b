//! `rehearse`: a policy, and a copy of a machine, tried with real packets.

use crate::harness::{Desk, MENDED, give};
use serde_json::Value;
use std::net::{TcpListener, UdpSocket};
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary};
use tipstaff_wire::nf_tables as nf;

const POLICY: &str = r#"
edition = 1
[place.curators]
addresses = ["198.51.100.0/27", "2001:db8:51::/64"]
[host.sluice]
addresses = ["192.0.2.10", "2001:db8:2::10"]
interfaces = { outside = "eth0", stacks = "eth1" }
[[host.sluice.rule]]
name = "catalogue"
allow = ["443/tcp", "5353/udp", "8443/tcp"]
[[host.sluice.rule]]
name = "shell"
allow = ["2202/tcp"]
from = ["curators"]
[[host.sluice.rule]]
name = "old"
reject = ["9100/tcp"]
ingress = ["outside"]
"#;

fn row<'a>(report: &'a Value, from: &str, version: &str, interface: &str) -> &'a Value {
    let rows = report["rows"].as_array().expect("a list");
    let found = rows
        .iter()
        .find(|it| it["from"] == from && it["version"] == version && it["interface"] == interface);
    found.unwrap_or_else(|| panic!("no row for {from} {version} {interface} in {report:#}"))
}

#[test]
fn every_port_is_tried_from_everybody_whom_the_policy_tells_apart() {
    let desk = Desk::with(POLICY);
    let report = desk.run(["rehearse", "--format", "json"]).exits(0).json();
    assert_eq!(report["disagreements"], 0, "{report:#}");
    assert_eq!(report["every_port"], true);
    // Curators, everybody else, and for IPv6 also the link's own addresses, by two interfaces.
    let rows = report["rows"].as_array().expect("a list");
    let usual: Vec<&Value> = rows.iter().filter(|it| it["source_port"] == 49_152).collect();
    assert_eq!(usual.len(), 2 * (2 + 3));
    // Every TCP and UDP port, every ICMP type, and of SCTP the ports around those that rules name.
    let each = usual[0]["packets"].as_u64().expect("a number");
    assert!((2 * 65_536 + 256 + 8..2 * 65_536 + 256 + 64).contains(&each), "{each}");
    assert!(usual.iter().all(|it| it["packets"] == each));
    // DHCP answers come from certain ports.
    let dhcp = rows.iter().find(|it| it["source_port"] == 67).expect("tried");
    assert!(dhcp["open"].as_str().is_some_and(|it| it.contains("68/udp")), "{dhcp:#}");
    let in_rows: u64 = rows.iter().filter_map(|it| it["packets"].as_u64()).sum();
    let all = report["packets"].as_u64().expect("a number");
    let members = report["members"].as_u64().expect("a number");
    assert!(members > 4 && all > in_rows + members, "{members} {all} {in_rows}");
    let sent = report["sent"].as_u64().expect("a number");
    assert!(sent >= all, "none is missing: {sent}");
    let curators = row(&report, "curators", "IPv4", "eth0");
    assert_eq!(curators["open"], "443/tcp, 2202/tcp, 8443/tcp, 5353/udp");
    assert_eq!(curators["limited"], "ping");
    assert_eq!(curators["rejected"], "9100/tcp");
    let inside = row(&report, "elsewhere", "IPv4", "eth1");
    assert_eq!(inside["open"], "443/tcp, 8443/tcp, 5353/udp");
    assert_eq!(inside["rejected"], "");
}

#[test]
fn a_rehearsal_can_be_narrowed_and_says_what_it_does_not_understand() {
    let desk = Desk::with(MENDED);
    let args = ["rehearse", "--host", "granary", "--traffic", "5432/tcp", "--from", "10.44.8.10"];
    let report = desk.run(args.into_iter().chain(["--format", "json"])).exits(0).json();
    let rows = report["rows"].as_array().expect("a list");
    assert_eq!((rows[0]["open"].as_str(), &rows[0]["packets"]), (Some("5432/tcp"), &1.into()));
    let wrong = desk.run(["rehearse", "--host", "granary", "--from", "curator"]).exits(2);
    assert!(wrong.stderr.contains("curators"), "{}", wrong.stderr);
    let wrong = desk.run(["rehearse", "--host", "granary", "--traffic", "99999/tcp"]).exits(2);
    assert!(wrong.stderr.contains("--traffic"), "{}", wrong.stderr);
    let own = desk.run(["rehearse", "--host", "granary", "--from", "10.44.8.20"]).exits(2);
    assert!(own.stderr.contains("nobody to try from"), "{}", own.stderr);
    // What no rule tells apart is tried all the same if somebody asks for it, and nothing is never well.
    let asked =
        ["rehearse", "--host", "granary", "--traffic", "5000-5009/sctp", "--format", "json"];
    let report = desk.run(asked).exits(0).json();
    let rows = report["rows"].as_array().expect("a list");
    assert!(rows.iter().any(|it| it["packets"] == 10), "{report:#}");
    let nothing = desk.run(["rehearse", "--host", "granary", "--traffic", "igmp"]).exits(2);
    assert!(nothing.stderr.contains("nothing to try"), "{}", nothing.stderr);
}

/// Somebody else's table: before our rules it drops one port for the curators, and redirects
/// another one to where nobody listens; what it looks up is in sets.
fn somebody_elses_rules() {
    use nf::{Base, Compare, Element, Expression, Hook, Verdict, set_flags};
    let mut batch = nf::Batch::begin(1);
    let table = "somebody";
    batch.new_table(&nf::Table { name: table.into(), ..nf::Table::default() });
    batch.new_chain(&nf::Chain {
        family: nf::FAMILY_INET,
        table: table.into(),
        name: "early".into(),
        kind: Some("filter".into()),
        hook: Some(Hook { number: Hook::PRE_ROUTING, priority: -10 }),
        policy: Some(1),
    });
    let set = nf::Set {
        table: table.into(),
        name: "ports".into(),
        flags: set_flags::CONSTANT,
        key_length: 2,
        id: 1,
        ..nf::Set::default()
    };
    batch.new_set(&set);
    let ports = [443u16, 22_000].map(|port| Element::key(port.to_be_bytes().to_vec()));
    batch.new_elements(&set, &ports);
    let load =
        |base, offset, length, register| Expression::Payload { base, offset, length, register };
    batch.new_rule(&nf::Rule {
        table: table.into(),
        chain: "early".into(),
        expressions: vec![
            Expression::Meta { key: nf::MetaKey::Family, register: 1 },
            Expression::Cmp { register: 1, op: Compare::Equal, data: vec![2] },
            load(Base::Network, 12, 3, 1),
            Expression::Cmp { register: 1, op: Compare::Equal, data: vec![198, 51, 100] },
            load(Base::Transport, 2, 2, 1),
            Expression::Lookup {
                register: 1,
                set: "ports".into(),
                id: 1,
                flags: 0,
                to_verdict: false,
            },
            Expression::Immediate(Verdict::Drop),
        ],
        ..nf::Rule::default()
    });
    give(batch);
}

#[test]
fn a_copy_of_the_machine_tells_the_truth_about_rules_changed_behind_our_back() {
    sealed(
        "rehearsing::a_copy_of_the_machine_tells_the_truth_about_rules_changed_behind_our_back",
        || {
            let lab = street_sluice_granary();
            let sluice = lab.node("sluice").expect("there");
            let desk = Desk::with(POLICY);
            desk.on(sluice, ["enforce", "--keep"]).exits(0);
            let held = sluice
                .run(|| {
                    let all = TcpListener::bind("[::]:443").expect("bound");
                    let own = TcpListener::bind("192.0.2.10:8443").expect("bound");
                    let udp = UdpSocket::bind("0.0.0.0:5353").expect("bound");
                    (all, own, udp)
                })
                .expect("entered");
            let args = ["rehearse", "--live", "--format", "json"];
            let report = desk.on(sluice, args).exits(0).json();
            assert_eq!(report["missing"], serde_json::json!([]), "{report:#}");
            let curators = row(&report, "curators", "IPv4", "eth0");
            assert_eq!(curators["open"], "443/tcp, 8443/tcp, 5353/udp");
            assert_eq!(curators["closed"], "2202/tcp", "nobody listens there");
            assert_eq!(curators["rejected"], "9100/tcp");
            let v6 = row(&report, "curators", "IPv6", "eth0");
            let closed = v6["closed"].as_str().expect("a text");
            assert!(closed.starts_with("2202/tcp, 8443/tcp, 5353/udp"), "v4 only there: {closed}");

            sluice.run(somebody_elses_rules).expect("entered");
            let report = desk.on(sluice, args).exits(1).json();
            let curators = row(&report, "curators", "IPv4", "eth0");
            assert_eq!(curators["open"], "8443/tcp, 5353/udp", "{curators:#}");
            assert_eq!(row(&report, "curators", "IPv6", "eth0")["open"], "443/tcp");
            assert_eq!(
                row(&report, "elsewhere", "IPv4", "eth0")["open"],
                "443/tcp, 8443/tcp, 5353/udp"
            );
            let witness = &report["witnesses"][0];
            assert_eq!(witness["packet"]["destination_port"], 443, "{witness:#}");
            assert_eq!((&witness["policy"], &witness["met"]), (&"allow".into(), &"denied".into()));
            assert_eq!(witness["decided_by"]["name"], "catalogue");
            let text = desk.on(sluice, ["rehearse", "--live", "--traffic", "443/tcp"]).exits(1);
            assert!(text.stdout.contains("! 443/tcp from 198.51.100.1"), "{}", text.stdout);
            drop(held);
        },
    );
}

#[test]
fn a_lab_can_be_made_in_a_changed_root_that_is_no_mount_point() {
    sealed("rehearsing::a_lab_can_be_made_in_a_changed_root_that_is_no_mount_point", || {
        let desk = Desk::with(POLICY);
        let root = desk.folder.path().join("root");
        // Copies only: nothing of this machine hangs below a folder that is deleted later.
        let program = env!("CARGO_BIN_EXE_tipstaff");
        let needs = std::process::Command::new("ldd").arg(program).output().expect("ldd runs");
        let needs = String::from_utf8_lossy(&needs.stdout).into_owned();
        let files = needs.split_whitespace().filter(|it| it.starts_with('/')).chain([program]);
        for file in files {
            let to = root.join(file.trim_start_matches('/'));
            std::fs::create_dir_all(to.parent().expect("a folder")).expect("made");
            std::fs::copy(file, to).expect("copied");
        }
        for folder in ["proc", "work"] {
            std::fs::create_dir_all(root.join(folder)).expect("made");
        }
        std::fs::write(root.join("work/policy.toml"), POLICY).expect("written");
        let mut command = desk.command(["rehearse", "--traffic", "443/tcp"]);
        enter(&mut command, &root);
        let outcome = crate::harness::finish(command);
        let left = std::fs::read_dir(root.join("proc")).expect("a folder").count();
        if left > 0 {
            // Whatever this is must not be deleted with the folder.
            std::mem::forget(desk);
            panic!("a mount was left behind");
        }
        let outcome = outcome.exits(0);
        assert!(outcome.stdout.contains("443/tcp"), "{}", outcome.stdout);
    });
}

/// Starts the command in a changed root, which has `/proc` in the command's own mount namespace only.
#[allow(unsafe_code)]
fn enter(command: &mut std::process::Command, root: &std::path::Path) {
    use rustix::mount::{MountPropagationFlags, mount_bind_recursive, mount_change};
    use rustix::thread::{UnshareFlags, unshare_unsafe};
    use std::os::unix::process::CommandExt;
    let (root, proc) = (root.to_owned(), root.join("proc"));
    // SAFETY: no table of descriptors is taken apart.
    let alone = || unsafe { unshare_unsafe(UnshareFlags::NEWNS) };
    // SAFETY: between fork and exec the closure only makes system calls; the paths were made before.
    unsafe {
        command.current_dir("/").pre_exec(move || {
            alone()?;
            mount_change("/", MountPropagationFlags::PRIVATE | MountPropagationFlags::REC)?;
            mount_bind_recursive("/proc", &proc)?;
            std::os::unix::fs::chroot(&root)?;
            std::env::set_current_dir("/work")
        });
    }
}
