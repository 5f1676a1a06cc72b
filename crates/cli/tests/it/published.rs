//! Ports that others lead elsewhere: found, and told as real connections meet them.

use crate::harness::{Desk, give};
use serde_json::Value;
use std::net::{IpAddr, TcpListener, UdpSocket};
use tipstaff_linux::lab::testing::{address, sealed, street_sluice_granary};
use tipstaff_linux::lab::{Lab, Node};
use tipstaff_linux::{NetlinkSocket, Protocol, flows};
use tipstaff_wire::nf_tables::{
    self as nf, Base, Batch, Compare, Element, Expression as E, Hook, MetaKey, Verdict, fib,
    set_flags,
};

const POLICY: &str = r#"
edition = 1
[place.curators]
addresses = ["198.51.100.0/27", "2001:db8:51::/64"]
[place.strangers]
addresses = ["203.0.113.0/24", "2001:db8:bad::/64"]
[place.granary]
addresses = ["10.44.8.20", "fd44:8::20"]
[host.sluice]
addresses = ["192.0.2.10/24", "2001:db8:2::10/64", "10.44.8.10/24", "fd44:8::10/64"]
[[host.sluice.rule]]
name = "catalogue"
allow = ["443/tcp"]
[[host.sluice.rule]]
name = "mirror"
direction = "forwarded"
allow = ["80/tcp", "53/udp"]
to = ["granary"]
"#;

const TCP: u8 = 6;
const UDP: u8 = 17;
const ONE: u32 = 1;
const TWO: u32 = 2;

fn eq(data: impl Into<Vec<u8>>) -> E {
    E::Cmp { register: ONE, op: Compare::Equal, data: data.into() }
}

fn protocol(number: u8) -> Vec<E> {
    vec![E::Meta { register: ONE, key: MetaKey::Protocol }, eq([number])]
}

fn version(number: u8) -> Vec<E> {
    vec![E::Meta { register: ONE, key: MetaKey::Family }, eq([number])]
}

fn load_port() -> E {
    E::Payload { register: ONE, base: Base::Transport, offset: 2, length: 2 }
}

fn port(number: u16) -> Vec<E> {
    vec![load_port(), eq(number.to_be_bytes())]
}

fn by(link: &str) -> Vec<E> {
    let mut name = link.as_bytes().to_vec();
    name.resize(16, 0);
    vec![E::Meta { register: ONE, key: MetaKey::InInterfaceName }, eq(name)]
}

fn at(own: [u8; 4]) -> Vec<E> {
    vec![E::Payload { register: ONE, base: Base::Network, offset: 16, length: 4 }, eq(own)]
}

fn to(target: &str, port: Option<u16>) -> Vec<E> {
    let target = address(target);
    let (family, data) = match target {
        IpAddr::V4(it) => (2, it.octets().to_vec()),
        IpAddr::V6(it) => (10, it.octets().to_vec()),
    };
    let mut all = vec![E::Load { register: ONE, data }];
    all.extend(port.map(|it| E::Load { register: TWO, data: it.to_be_bytes().to_vec() }));
    let port = port.map(|_| TWO);
    all.push(E::Nat {
        kind: 1,
        family,
        address: Some(ONE),
        last_address: Some(ONE),
        port,
        last_port: port,
        flags: 0,
    });
    all
}

fn here(port: u16) -> Vec<E> {
    vec![
        E::Load { register: ONE, data: port.to_be_bytes().to_vec() },
        E::Redirect { port: Some(ONE), last_port: Some(ONE), flags: 2 },
    ]
}

/// Somebody's table, with a chain that translates.
struct Table {
    batch: Batch,
    name: &'static str,
}

impl Table {
    fn new(name: &'static str, priority: i32) -> Self {
        let mut batch = Batch::begin(1);
        batch.new_table(&nf::Table { name: name.into(), ..nf::Table::default() });
        let mut table = Self { batch, name };
        table.chain("porter", "nat", Some((Hook::PRE_ROUTING, priority)));
        table
    }

    fn chain(&mut self, name: &str, kind: &str, hook: Option<(u32, i32)>) {
        self.batch.new_chain(&nf::Chain {
            table: self.name.into(),
            name: name.into(),
            kind: hook.map(|_| kind.into()),
            hook: hook.map(|(number, priority)| Hook { number, priority }),
            policy: hook.map(|_| 1),
            ..nf::Chain::default()
        });
    }

    fn rule(&mut self, chain: &str, parts: &[Vec<E>]) -> &mut Self {
        self.batch.new_rule(&nf::Rule {
            table: self.name.into(),
            chain: chain.into(),
            expressions: parts.concat(),
            ..nf::Rule::default()
        });
        self
    }

    fn set(&mut self, name: &str, id: u32, flags: u32, elements: &[Element]) -> nf::Set {
        let set = nf::Set {
            table: self.name.into(),
            name: name.into(),
            flags,
            key_length: 2,
            id,
            verdicts: elements.iter().any(|it| it.verdict.is_some()),
            numbers: elements.iter().any(|it| it.number.is_some()),
            ..nf::Set::default()
        };
        self.batch.new_set(&set);
        self.batch.new_elements(&set, elements);
        set
    }
}

/// One table with one rule.
fn one(parts: &[Vec<E>]) -> Vec<Table> {
    let mut table = Table::new("almanac", -100);
    table.rule("porter", parts);
    vec![table]
}

fn key(port: u16) -> Vec<u8> {
    port.to_be_bytes().to_vec()
}

/// What is to be found: ports, where they lead, and what curators meet there by policy, kernel and connection.
type Found = (&'static str, &'static str, &'static str);

struct SetUp {
    name: &'static str,
    tables: Vec<Table>,
    found: Vec<Found>,
    exit: i32,
}

fn set_up(name: &'static str, tables: Vec<Table>, found: &[Found]) -> SetUp {
    SetUp { name, tables, found: found.to_vec(), exit: 0 }
}

const OPEN: &str = "allow allow open";
const SILENT: &str = "deny deny silent";
const THERE: &str = "10.44.8.20:80";

fn simple() -> Vec<SetUp> {
    let web = || to("10.44.8.20", Some(80));
    let v4 = || [version(2), protocol(TCP)].concat();
    let masked = E::Bitwise {
        source: ONE,
        destination: ONE,
        length: 4,
        mask: vec![255, 255, 255, 0],
        xor: vec![0; 4],
    };
    let whence = E::Payload { register: ONE, base: Base::Network, offset: 12, length: 4 };
    let from = vec![whence, masked, eq([198, 51, 100, 0])];
    let local =
        vec![E::Fib { register: ONE, flags: fib::DESTINATION }, eq(fib::LOCAL.to_ne_bytes())];
    let range = vec![
        load_port(),
        E::Range { register: ONE, op: Compare::Equal, from: key(8000), to: key(8010) },
    ];
    vec![
        set_up("a port", one(&[v4(), port(8088), web()]), &[("8088/tcp", THERE, OPEN)]),
        set_up(
            "over IPv6",
            one(&[version(10), protocol(TCP), port(8088), to("fd44:8::20", Some(80))]),
            &[("8088/tcp", "[fd44:8::20]:80", OPEN)],
        ),
        set_up(
            "a port that stays",
            one(&[v4(), port(80), to("10.44.8.20", None)]),
            &[("80/tcp", THERE, OPEN)],
        ),
        set_up("a range", one(&[v4(), range, web()]), &[("8000-8010/tcp", THERE, OPEN)]),
        set_up(
            "at one address",
            one(&[v4(), at([192, 0, 2, 10]), port(8088), web()]),
            &[("8088/tcp", THERE, OPEN)],
        ),
        set_up("at its own", one(&[v4(), local, port(8088), web()]), &[("8088/tcp", THERE, OPEN)]),
        set_up(
            "by a link",
            one(&[v4(), by("eth0"), port(8088), web()]),
            &[("8088/tcp", THERE, OPEN)],
        ),
        set_up("for some", one(&[v4(), from, port(8088), web()]), &[("8088/tcp", THERE, OPEN)]),
        set_up(
            "to where nobody may",
            one(&[v4(), port(8088), to("10.44.8.20", Some(5432))]),
            &[("8088/tcp", "10.44.8.20:5432", SILENT)],
        ),
        set_up(
            "by UDP",
            one(&[version(2), protocol(UDP), port(5353), to("10.44.8.20", Some(53))]),
            &[("5353/udp", "10.44.8.20:53", OPEN)],
        ),
        set_up(
            "to itself",
            one(&[v4(), port(8443), here(443)]),
            &[("8443/tcp", "192.0.2.10:443", OPEN)],
        ),
        set_up(
            "to itself, where nobody may",
            one(&[v4(), port(9999), here(22)]),
            &[("9999/tcp", "192.0.2.10:22", SILENT)],
        ),
        set_up(
            "never, since something accepts first",
            {
                let mut all = one(&[v4(), vec![E::Immediate(Verdict::Accept)]]);
                all[0].rule("porter", &[v4(), port(8088), web()]);
                all
            },
            &[],
        ),
    ]
}

fn woven() -> Vec<SetUp> {
    let web = || to("10.44.8.20", Some(80));
    let v4 = || [version(2), protocol(TCP)].concat();
    let lookup = |set: &nf::Set, to_verdict| E::Lookup {
        set: set.name.clone(),
        register: ONE,
        to_verdict,
        id: set.id,
        flags: 0,
    };
    let mut sets = Table::new("almanac", -100);
    let some = sets.set(
        "some",
        1,
        set_flags::CONSTANT,
        &[Element::key(key(8088)), Element::key(key(8090))],
    );
    sets.rule("porter", &[v4(), vec![load_port(), lookup(&some, false)], web()]);
    let mut mapped = Table::new("almanac", -100);
    let leads =
        Element { number: Some(u32::from_ne_bytes([10, 44, 8, 20])), ..Element::key(key(80)) };
    let map = mapped.set("whither", 1, set_flags::MAP, &[leads]);
    let find = E::Find { set: map.name.clone(), register: ONE, destination: ONE, id: map.id };
    let nat = to("10.44.8.20", None).pop().expect("one");
    mapped.rule("porter", &[v4(), vec![load_port(), find, nat]]);
    let mut jumps = Table::new("almanac", -100);
    jumps.chain("web", "", None);
    jumps.rule("web", &[web()]);
    let jump = |port: u16| Element {
        verdict: Some(Verdict::Jump("web".into())),
        ..Element::key(key(port))
    };
    let verdicts = jumps.set("which", 1, set_flags::MAP, &[jump(8088)]);
    jumps.rule("porter", &[v4(), vec![load_port(), lookup(&verdicts, true)]]);
    let mut marks = Table::new("almanac", -100);
    marks.chain("marks", "filter", Some((Hook::PRE_ROUTING, -150)));
    let mark = vec![
        E::Load { register: ONE, data: 7u32.to_ne_bytes().to_vec() },
        E::MetaSet { key: MetaKey::Mark, source: ONE },
    ];
    marks.rule("marks", &[v4(), port(8088), mark]);
    let marked = vec![E::Meta { register: ONE, key: MetaKey::Mark }, eq(7u32.to_ne_bytes())];
    marks.rule("porter", &[v4(), marked, web()]);
    let mut later = Table::new("ledger", -90);
    later.rule("porter", &[v4(), port(8088), to("10.44.8.20", Some(5432))]);
    let mut both = one(&[v4(), port(8088), web()]);
    both.push(later);
    let mut masked = one(&[v4(), port(8088), web()]);
    masked[0].chain("behind", "nat", Some((Hook::POST_ROUTING, 100)));
    masked[0].rule("behind", &[v4(), vec![E::Other { name: "masq".into(), data: Vec::new() }]]);
    vec![
        set_up("by a set", vec![sets], &[("8088/tcp", THERE, OPEN), ("8090/tcp", THERE, OPEN)]),
        set_up("by a map", vec![mapped], &[("80/tcp", THERE, OPEN)]),
        set_up("by a map of verdicts", vec![jumps], &[("8088/tcp", THERE, OPEN)]),
        set_up("by a mark", vec![marks], &[("8088/tcp", THERE, OPEN)]),
        set_up("by the first of two tables", both, &[("8088/tcp", THERE, OPEN)]),
        set_up("with another sender behind", masked, &[("8088/tcp", THERE, OPEN)]),
    ]
}

/// What cannot be told is not taken for closed; what others keep out is told by a copy.
fn doubtful() -> Vec<SetUp> {
    let web = || to("10.44.8.20", Some(80));
    let v4 = || [version(2), protocol(TCP)].concat();
    let mut twin = Table::new("ledger", -100);
    twin.rule("porter", &[v4(), port(8088), to("10.44.8.20", Some(5432))]);
    let mut tied = one(&[v4(), port(8088), web()]);
    tied.push(twin);
    let mut shut = one(&[v4(), port(8088), web()]);
    shut[0].chain("closed", "filter", Some((Hook::FORWARD, -5)));
    shut[0].rule("closed", &[v4(), vec![E::Immediate(Verdict::Drop)]]);
    let random = E::Other {
        // NFTA_NG_DREG, _MODULUS and _TYPE: one of two, at random.
        name: "numgen".into(),
        data: [[8, 0, 1, 0, 0, 0, 0, 1], [8, 0, 2, 0, 0, 0, 0, 2], [8, 0, 3, 0, 0, 0, 0, 1]]
            .concat(),
    };
    let chance = vec![random, eq(0u32.to_ne_bytes())];
    vec![
        set_up(
            "by one of two tables",
            tied,
            &[("8088/tcp", "not known", "unknown unknown silent")],
        ),
        set_up(
            "by chance",
            one(&[v4(), port(8088), chance, web()]),
            &[("8088/tcp", "not known", "unknown unknown any")],
        ),
        SetUp {
            exit: 1,
            ..set_up(
                "though another table keeps it out",
                shut,
                &[("8088/tcp", THERE, "allow allow silent")],
            )
        },
    ]
}

fn text(value: &Value) -> String {
    value.as_str().unwrap_or("-").to_owned()
}

/// What `reach` says of ports that are led, for curators.
fn told(report: &Value) -> Vec<(String, String, String)> {
    let listeners = report["listeners"].as_array().expect("a list");
    let published = listeners.iter().filter(|it| !it["published"].is_null());
    let mut found = Vec::new();
    for entry in published {
        let from = entry["from"].as_array().expect("a list");
        let views = from.iter().filter(|it| it["place"] == "curators");
        // At the address by which the street comes.
        let parts = views.flat_map(|it| it["parts"].as_array().expect("a list"));
        let outside = |it: &&Value| {
            it["interfaces"].is_null() || it["interfaces"].to_string().contains("eth0")
        };
        let Some(part) = parts.filter(outside).find(|it| {
            let at = it["receivers"].to_string();
            at.contains("192.0.2.10") || at.contains("2001:db8:2::10")
        }) else {
            continue;
        };
        let ports = format!("{}/{}", text(&entry["published"]), text(&entry["protocol"]));
        let to = part["led_to"].as_str().unwrap_or("not known").to_owned();
        let words = ["policy", "kernel", "observed"].map(|it| text(&part[it])).join(" ");
        found.push((ports, to, words));
    }
    found
}

fn world() -> (Lab, Vec<TcpListener>, UdpSocket) {
    let lab = street_sluice_granary();
    let (sluice, granary) = (lab.node("sluice").expect("it"), lab.node("granary").expect("it"));
    let listen = |at: &str| TcpListener::bind(at).expect("bound");
    let mut servers =
        granary.run(|| vec![listen("[::]:80"), listen("[::]:5432")]).expect("entered");
    servers.extend(sluice.run(|| vec![listen("[::]:443"), listen("[::]:22")]).expect("entered"));
    let names = granary.run(|| UdpSocket::bind("[::]:53")).expect("entered").expect("bound");
    let answering = names.try_clone().expect("cloned");
    std::thread::spawn(move || {
        let mut bytes = [0; 512];
        while let Ok((length, from)) = answering.recv_from(&mut bytes) {
            let _ = answering.send_to(&bytes[..length], from);
        }
    });
    (lab, servers, names)
}

/// The other commands say the same of it.
fn asked(desk: &Desk, sluice: &Node, (ports, to, words): &Found) {
    let policy = words.split(' ').next().expect("a word");
    let traffic = match ports.split_once('-') {
        Some((first, rest)) => {
            format!("{first}/{}", rest.split('/').nth(1).expect("a protocol"))
        }
        None => (*ports).to_owned(),
    };
    let from = if to.starts_with('[') { "2001:db8:51::7" } else { "198.51.100.7" };
    let asked = ["ask", "--live", "--from", from, "--traffic", &traffic];
    if policy == "unknown" {
        let told = desk.on(sluice, asked).exits(1).stderr;
        assert!(told.contains("cannot be told") && told.contains("rehearse --live"), "{told}");
        return;
    }
    let told = desk.on(sluice, asked.iter().chain(&["--format", "json"])).exits(0).json();
    assert_eq!((&told["verdict"], &told["led"]["to"]), (&policy.into(), &(*to).into()));
    let told = desk.on(sluice, asked).exits(0).stdout;
    assert!(told.contains(&format!("led to {to} by table almanac")), "{told}");
    let told = desk.on(sluice, ["ask", "--live", "--who", &traffic]).exits(0).stdout;
    assert!(
        told.contains(&format!("but {ports} is led elsewhere")) && told.contains("curators"),
        "{told}"
    );
    let told = desk.on(sluice, ["ask", "--live", "--what", "curators"]).exits(0).stdout;
    assert!(told.contains(&format!("led to {to}")), "{told}");
    // Without the machine nobody knows of it.
    let told = desk.run(["ask", "--from", from, "--traffic", &traffic, "--format", "json"]).json();
    assert!(told["led"].is_null(), "{told}");
    let status = desk.on(sluice, ["status"]).exits(0).stdout;
    assert!(status.contains("almanac leads packets elsewhere"), "{status}");
}

fn holds(all: fn() -> Vec<SetUp>) {
    let (lab, _servers, _names) = world();
    let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
    let desk = Desk::with(POLICY);
    desk.on(sluice, ["enforce", "--keep", "--even-if-locked-out"]).exits(0);
    let vantage = |place: &str| format!("{place}=netns:{}", street.namespace().file().display());
    for SetUp { name, tables, found, exit } in all() {
        let names: Vec<&str> = tables.iter().map(|it| it.name).collect();
        sluice.run(|| tables.into_iter().for_each(|it| give(it.batch))).expect("entered");
        let args = ["reach", "--format", "json", "--patience", "0.5"];
        let (curators, strangers) = (vantage("curators"), vantage("strangers"));
        let vantages = ["--vantage", &curators, "--vantage", &strangers];
        let report = desk.on(sluice, args.iter().chain(&vantages)).exits(exit).json();
        let told = told(&report);
        let is = |(told, found): (&(String, String, String), &Found)| {
            let words = if found.2.ends_with("any") { &told.2[..] } else { found.2 };
            (&told.0[..], &told.1[..], &told.2[..]) == (found.0, found.1, words)
        };
        assert!(
            told.len() == found.len() && told.iter().zip(&found).all(is),
            "{name}: {told:?}, not {found:?}\n{report:#}"
        );
        for found in &found {
            asked(&desk, sluice, found);
        }
        let end = || {
            let mut batch = Batch::begin(1);
            for name in names {
                batch.delete_table(name);
            }
            give(batch);
            let mut kernel = NetlinkSocket::open(Protocol::Netfilter).expect("a socket");
            for flow in flows::flows(&mut kernel).expect("read") {
                flows::forget(&mut kernel, &flow).expect("forgotten");
            }
        };
        sluice.run(end).expect("entered");
    }
}

#[test]
fn ports_that_lead_elsewhere_are_told_as_connections_meet_them() {
    sealed("published::ports_that_lead_elsewhere_are_told_as_connections_meet_them", || {
        holds(simple);
    });
}

#[test]
fn whatever_leads_them_there() {
    sealed("published::whatever_leads_them_there", || holds(woven));
}

#[test]
fn what_cannot_be_told_is_not_taken_for_closed() {
    sealed("published::what_cannot_be_told_is_not_taken_for_closed", || holds(doubtful));
}

/// Open though no rule speaks of it: found, with what closes it; and the report for others has its row.
#[test]
fn what_is_open_past_the_policy_is_found_and_can_be_mended() {
    sealed("published::what_is_open_past_the_policy_is_found_and_can_be_mended", || {
        let (lab, _servers, _names) = world();
        let sluice = lab.node("sluice").expect("it");
        let wide = POLICY.replace(
            "[[host.sluice.rule]]\nname = \"catalogue\"",
            "[host.sluice.default]\nforwarded = \"allow\"\n[[host.sluice.rule]]\nname = \"catalogue\"",
        );
        let desk = Desk::with(&wide);
        desk.on(sluice, ["enforce", "--keep", "--even-if-locked-out"]).exits(0);
        let v4 = [version(2), protocol(TCP)].concat();
        let mut tables = one(&[v4.clone(), port(8088), to("10.44.8.20", Some(5432))]);
        tables[0].rule("porter", &[v4, port(8089), to("10.44.8.20", Some(80))]);
        sluice.run(|| tables.into_iter().for_each(|it| give(it.batch))).expect("entered");
        let of = |report: &Value| -> Vec<Value> {
            let findings = report["findings"].as_array().expect("a list").iter();
            findings.filter(|it| it["code"] == "published-past-policy").cloned().collect()
        };
        let review = desk.on(sluice, ["review", "--live", "--format", "json"]).exits(1).json();
        let found = of(&review);
        assert_eq!(found.len(), 1, "{found:#?}");
        let message = text(&found[0]["message"]);
        assert!(
            message.contains("8088/tcp is led to 10.44.8.20:5432 by table almanac"),
            "{message}"
        );
        let mend = text(&found[0]["mend"]).replace("NAME", "not-the-database");
        let words: Vec<&str> = mend.split(' ').skip(1).collect();
        println!("{mend}");
        let report = desk.on(sluice, ["report", "--live"]).stdout;
        let row = report.lines().find(|it| it.contains("8088/tcp")).expect("a row").to_owned();
        assert!(row.contains("open"), "{row}");
        // What is told mends it, and really closes it.
        let street = lab.node("street").expect("it");
        let reached = || {
            let to = "192.0.2.10:8088".parse().expect("an address");
            street
                .run(|| {
                    std::net::TcpStream::connect_timeout(&to, std::time::Duration::from_millis(700))
                })
                .expect("entered")
                .is_ok()
        };
        assert!(reached());
        desk.on(sluice, words).exits(0);
        desk.on(sluice, ["enforce", "--keep", "--even-if-locked-out"]).exits(0);
        assert!(!reached());
        let review = desk.on(sluice, ["review", "--live", "--format", "json"]).json();
        assert!(of(&review).is_empty(), "{review:#}");
        let told = desk.on(sluice, ["report", "--live"]).stdout;
        let row = told.lines().find(|it| it.contains("8088/tcp")).expect("a row");
        assert!(row.contains("silence"), "{row}");
    });
}
