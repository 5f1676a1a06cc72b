//! Ports that others lead elsewhere: found, and told as real connections meet them.

mod asked_for;
mod inside;
mod tables;
mod ways;

use crate::harness::{Desk, give};
use serde_json::Value;
use std::collections::HashSet;
use std::net::{TcpListener, UdpSocket};
use tables::{TCP, Table, one, port, protocol, to, version};
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary};
use tipstaff_linux::lab::{Lab, Node};
use tipstaff_linux::{NetlinkSocket, Protocol, flows};
use tipstaff_wire::nf_tables::Batch;
use ways::{Found, SetUp, doubtful, simple, simple_too, woven};

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

fn text(value: &Value) -> String {
    value.as_str().unwrap_or("-").to_owned()
}

/// From where one looks: the place, the link by which it comes, and the addresses to which it speaks.
type Vantage = (&'static str, &'static str, [&'static str; 2]);
const CURATORS: Vantage = ("curators", "eth0", ["192.0.2.10", "2001:db8:2::10"]);

/// What `reach` says of ports that are led, for those at a vantage.
fn told(report: &Value, (place, link, own): Vantage) -> Vec<(String, String, String)> {
    let listeners = report["listeners"].as_array().expect("a list");
    let published = listeners.iter().filter(|it| !it["published"].is_null());
    let mut found = Vec::new();
    for entry in published {
        let from = entry["from"].as_array().expect("a list");
        let views = from.iter().filter(|it| it["place"] == place);
        let parts = views.flat_map(|it| it["parts"].as_array().expect("a list"));
        let its_link =
            |it: &&Value| it["interfaces"].is_null() || it["interfaces"].to_string().contains(link);
        let Some(part) = parts.filter(its_link).find(|it| {
            let at = it["receivers"].to_string();
            own.iter().any(|own| at.contains(&format!("\"{own}\"")))
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
    world_in(street_sluice_granary())
}

fn world_in(lab: Lab) -> (Lab, Vec<TcpListener>, UdpSocket) {
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
        let told = told(&report, CURATORS);
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
        take_away(sluice, &names);
    }
}

/// Takes tables away, and all that is remembered of who came.
fn take_away(sluice: &Node, names: &[&str]) {
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

#[test]
fn ports_that_lead_elsewhere_are_told_as_connections_meet_them() {
    sealed("published::ports_that_lead_elsewhere_are_told_as_connections_meet_them", || {
        holds(simple);
        holds(simple_too);
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
        let measured = || {
            let told = desk.on(sluice, ["reach", "--format", "openmetrics"]).stdout;
            assert!(told.ends_with("# EOF\n"), "{told}");
            // Each series stands once.
            let series: Vec<&str> =
                told.lines().filter_map(|it| Some(it.rsplit_once(' ')?.0)).collect();
            let once: HashSet<&&str> = series.iter().collect();
            assert_eq!(once.len(), series.len(), "{told}");
            let is = |family: &str| {
                let begin = format!("tipstaff_reach_{family}{{host=\"sluice\",port=\"8088/tcp\"");
                let of = |it: &&str| it.starts_with(&begin) && it.contains("place=\"strangers\"");
                told.lines().find(of).and_then(|it| it.rsplit(' ').next()).map(str::to_owned)
            };
            ["policy", "kernel", "agree", "open"].map(is).map(Option::unwrap_or_default).join(" ")
        };
        // Nobody knocked.
        assert_eq!(measured(), "1 1 1 ");
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
        assert_eq!(measured(), "0 0 1 ");
        let review = desk.on(sluice, ["review", "--live", "--format", "json"]).json();
        assert!(of(&review).is_empty(), "{review:#}");
        let told = desk.on(sluice, ["report", "--live"]).stdout;
        let row = told.lines().find(|it| it.contains("8088/tcp")).expect("a row");
        assert!(row.contains("silence"), "{row}");
    });
}

/// What has no ports is led as well.
#[test]
fn pings_are_followed_too() {
    sealed("published::pings_are_followed_too", || {
        let (lab, _servers, _names) = world();
        let sluice = lab.node("sluice").expect("it");
        let desk = Desk::with(POLICY);
        desk.on(sluice, ["enforce", "--keep", "--even-if-locked-out"]).exits(0);
        let tables = one(&[version(2), protocol(1), to("10.44.8.20", None)]);
        sluice.run(|| tables.into_iter().for_each(|it| give(it.batch))).expect("entered");
        let report = desk.on(sluice, ["reach", "--format", "json"]).exits(0).json();
        let pings = report["pings"].as_array().expect("a list");
        let of = |version: &str| {
            let found =
                pings.iter().find(|it| it["place"] == "curators" && it["version"] == version);
            let part = &found.expect("it")["parts"][0];
            ["policy", "led_to", "copy"].map(|it| text(&part[it])).join(" ")
        };
        assert_eq!(of("IPv4"), "deny 10.44.8.20 denied");
        assert_eq!(of("IPv6"), "allow - closed");
        let asked = ["ask", "--live", "--from", "198.51.100.7", "--traffic", "icmp"];
        let told = desk.on(sluice, asked).exits(0).stdout;
        assert!(told.contains("led to 10.44.8.20 by table almanac"), "{told}");
        // What leaves is not followed, and that is not left to be found out.
        let outbound = [
            "ask",
            "--live",
            "--direction",
            "outbound",
            "--to",
            "192.0.2.1",
            "--traffic",
            "80/tcp",
        ];
        let told = desk.on(sluice, outbound).exits(2).stderr;
        assert!(told.contains("--live follows inbound packets only"), "{told}");
    });
}

/// What others call their tables can be anything.
#[test]
fn names_of_others_cannot_write_on_a_terminal() {
    sealed("published::names_of_others_cannot_write_on_a_terminal", || {
        let (lab, _servers, _names) = world();
        let sluice = lab.node("sluice").expect("it");
        let desk = Desk::with(POLICY);
        desk.on(sluice, ["enforce", "--keep", "--even-if-locked-out"]).exits(0);
        let mut table = Table::new("al\u{1b}[31mma/\nnac", -100);
        let v4 = [version(2), protocol(TCP)].concat();
        table.rule("porter", &[v4, port(8088), to("10.44.8.20", Some(80))]);
        sluice.run(|| give(table.batch)).expect("entered");
        let all: [&[&str]; 6] = [
            &["reach"],
            &["ask", "--live", "--from", "198.51.100.7", "--traffic", "8088/tcp"],
            &["ask", "--live", "--who", "8088/tcp"],
            &["status"],
            &["report", "--live"],
            &["review", "--live"],
        ];
        for words in all {
            let told = desk.on(sluice, words);
            let text = format!("{}{}", told.stdout, told.stderr);
            println!("{text}");
            assert!(!text.contains('\u{1b}') && !text.contains("ma/\nnac"), "{words:?}: {text}");
        }
    });
}
