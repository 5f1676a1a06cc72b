//! `reach` with real servers, from vantages over real OpenSSH connections.

use crate::harness::{Desk, give};
use crate::servers::{Server, make_key, start, start_at, start_sshd, tools_to_log_in};
use serde_json::Value;
use std::fs;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};
use tipstaff_linux::lab::Node;
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary};
use tipstaff_linux::probe::{Attempt, State, attempt};
use tipstaff_linux::sockets::PortProtocol;

const POLICY: &str = r#"
edition = 1
[place.curators]
addresses = ["198.51.100.0/27", "2001:db8:51::/64"]
[place.strangers]
addresses = ["203.0.113.0/24", "2001:db8:bad::/64"]
[place.stacks]
addresses = ["10.44.8.0/24", "fd44:8::/64"]
[host.sluice]
addresses = ["192.0.2.10", "2001:db8:2::10", "10.44.8.10", "fd44:8::10"]
[[host.sluice.rule]]
name = "shell"
allow = ["22/tcp"]
from = ["curators"]
[[host.sluice.rule]]
name = "catalogue"
allow = ["80/tcp", "7/udp", "8443/tcp", "873/tcp"]
[[host.sluice.rule]]
name = "old-catalogue"
reject = ["8080/tcp", "9/udp"]
[[host.sluice.rule]]
name = "database"
allow = ["5432/tcp"]
from = ["stacks"]
"#;

/// Listens dual-stack at 80, 8080 and 9100, for IPv6 only at 8443, for the host itself at 5432.
fn web_servers(node: &Node, program: &Path, folder: &Path) -> Server {
    let shown = folder.display();
    let config = format!(
        "user root root; daemon off; master_process off; pid {shown}/pid; error_log {shown}/log;\n\
         events {{}}\n\
         http {{ access_log off; client_body_temp_path {shown}/b; proxy_temp_path {shown}/p;\n\
         fastcgi_temp_path {shown}/f; uwsgi_temp_path {shown}/u; scgi_temp_path {shown}/s;\n\
         server {{ listen [::]:80 ipv6only=off; listen [::]:8080 ipv6only=off;\n\
         listen [::]:9100 ipv6only=off; listen [::]:8443 ipv6only=on;\n\
         listen 127.0.0.1:5432; return 200 'seeds\\n'; }} }}\n"
    );
    fs::create_dir_all(folder).expect("a folder");
    let file = folder.join("nginx.conf");
    fs::write(&file, config).expect("written");
    let mut command = Command::new(program);
    command.arg("-c").arg(&file).arg("-p").arg(folder);
    start_at(node, command, 80)
}

/// For each entry of a listener: place, version, policy, copy, observed.
fn views(report: &Value, port: u16, protocol: &str) -> Vec<String> {
    let all = report["listeners"].as_array().expect("a list");
    let listener = all
        .iter()
        .find(|it| it["port"] == port && it["protocol"] == protocol)
        .unwrap_or_else(|| panic!("no listener {port}/{protocol} in {report:#}"));
    let word = |value: &Value| value.as_str().unwrap_or("-").to_owned();
    listener["from"]
        .as_array()
        .expect("a list")
        .iter()
        .map(|it| {
            let version = if it["version"] == "IPv4" { "v4" } else { "v6" };
            let copy = word(&it["parts"][0]["copy"]);
            let (place, policy) = (word(&it["place"]), word(&it["policy"]));
            format!("{place} {version} {policy} {copy} {}", word(&it["observed"]))
        })
        .collect()
}

fn comes_up(from: &Node, to: &str) {
    let begun = Instant::now();
    let check = Attempt {
        protocol: PortProtocol::Tcp,
        source: None,
        destination: to.parse().expect("an address"),
        patience: Duration::from_millis(500),
    };
    while from.run(|| attempt(&check)).expect("entered").map(|it| it.state).ok()
        != Some(State::Open)
    {
        assert!(begun.elapsed() < Duration::from_secs(60), "{to} did not come up");
        std::thread::sleep(Duration::from_millis(20));
    }
}

fn tells_them_apart(report: &Value) {
    // Dual-stack and allowed.
    assert_eq!(
        views(report, 80, "tcp")[..6],
        [
            "curators v4 allow open open",
            "curators v6 allow open open",
            "strangers v4 allow open open",
            "strangers v6 allow open open",
            "stacks v4 allow open open",
            "stacks v6 allow open open",
        ]
    );
    // Behind a reject; no rule; for IPv6 only; for the host itself.
    assert_eq!(views(report, 8080, "tcp")[2], "strangers v4 reject rejected refused");
    assert_eq!(views(report, 9100, "tcp")[1], "curators v6 deny denied silent");
    assert_eq!(views(report, 8443, "tcp")[0], "curators v6 allow open open");
    assert!(views(report, 8443, "tcp").iter().all(|it| it.contains(" v6 ")));
    assert_eq!(views(report, 5432, "tcp")[2], "stacks v4 deny - -");
    // UDP: answered, refused, silent.
    assert_eq!(views(report, 7, "udp")[4], "stacks v4 allow open open");
    assert_eq!(views(report, 9, "udp")[3], "strangers v6 reject rejected prohibited");
    assert_eq!(views(report, 10, "udp")[0], "curators v4 deny denied silent");
    // The shell has moved; what it was at is open and nobody is there; a service is stopped.
    assert_eq!(views(report, 2202, "tcp")[0], "curators v4 deny denied silent");
    let findings: Vec<String> = report["findings"]
        .as_array()
        .expect("a list")
        .iter()
        .map(|it| format!("{}: {}", it["code"], it["message"]))
        .collect();
    let found = |word: &str| findings.iter().any(|it| it.contains(word));
    for word in [
        "22/tcp, but nothing",
        "873/tcp, but nothing",
        "5432/tcp to others",
        "2202/tcp, which no rule",
    ] {
        assert!(found(word), "{word} is missing in {findings:#?}");
    }
    // Programs, and what became of silent probes.
    let all = report["listeners"].as_array().expect("a list");
    let shell = all.iter().find(|it| it["port"] == 2202).expect("there");
    assert!(shell["program"].as_str().is_some_and(|it| it.ends_with("sshd")), "{shell:#}");
    let silent = &shell["from"][0]["parts"][0]["probes"][0];
    let explained = silent["explained"].as_str().expect("explained");
    assert!(explained.contains("arrived and was denied by default/inbound"), "{explained}");
    // Pings are answered up to a rate.
    let ping = &report["pings"][0];
    assert_eq!((&ping["policy"], &ping["observed"]), (&"allow".into(), &"open".into()));
}

fn never_arrived(report: &Value) {
    let stopped = report["stopped_on_the_way"].to_string();
    assert!(stopped.contains("80/tcp from curators"), "{stopped}");
    let all = report["listeners"].as_array().expect("a list");
    let web = all.iter().find(|it| it["port"] == 80).expect("there");
    let probe = &web["from"][0]["parts"][0]["probes"][0];
    assert_eq!(probe["met"], "silent", "{web:#}");
    assert!(
        probe["explained"].as_str().is_some_and(|it| it.contains("never arrived")),
        "{probe:#}"
    );
}

#[test]
fn every_kind_of_service_is_told_apart_from_three_vantages_over_ssh() {
    let Some(tools) = tools_to_log_in() else { return };
    sealed("vantages::every_kind_of_service_is_told_apart_from_three_vantages_over_ssh", || {
        let [sshd, ssh, keygen, nginx, ..] = &tools;
        let lab = street_sluice_granary();
        let node = |name| lab.node(name).expect("there");
        let (street, sluice, granary) = (node("street"), node("sluice"), node("granary"));
        let desk = Desk::with(POLICY);
        make_key(keygen, desk.path());
        let _servers = [
            start_sshd(sluice, sshd, desk.path()),
            start_sshd(street, sshd, desk.path()),
            start_sshd(granary, sshd, desk.path()),
            web_servers(sluice, nginx, &desk.path().join("web")),
            start(sluice, desk.command(["stand-in", "udp:7", "udp:9", "udp:10"])),
        ];
        comes_up(street, "192.0.2.10:9100");
        comes_up(street, "192.0.2.10:2202");
        comes_up(sluice, "192.0.2.1:2202");
        comes_up(sluice, "10.44.8.20:2202");
        desk.on(sluice, ["enforce", "--keep"]).exits(0);

        let key = desk.path().join("host_key");
        let way = |place: &str, address: &str| {
            format!(
                "{place}={} -F none -T -p 2202 -i {} -l root -o StrictHostKeyChecking=no \
                 -o UserKnownHostsFile=/dev/null -o BatchMode=yes -o LogLevel=ERROR \
                 -o ConnectTimeout=5 {address} {} vantage",
                ssh.display(),
                key.display(),
                env!("CARGO_BIN_EXE_tipstaff")
            )
        };
        // One of them is reached over IPv6.
        let ways = [
            way("curators", "2001:db8:51::7"),
            way("strangers", "203.0.113.9"),
            way("stacks", "10.44.8.20"),
        ];
        let vantages = ways.iter().flat_map(|way| ["--vantage-command", way.as_str()]);
        let args = ["reach", "--format", "json", "--patience", "0.7"];
        let report = desk.on(sluice, args.into_iter().chain(vantages)).exits(0).json();
        assert_eq!(report["unknown"], serde_json::json!([]), "{report:#}");

        tells_them_apart(&report);

        // A link that loses everything on the way: it never arrived.
        let lost = way("curators", "2001:db8:51::7");
        granary_is_not_a_curator(&desk, sluice, &way("curators", "10.44.8.20"));
        block_on_the_way(street);
        let args = ["reach", "--format", "json", "--patience", "0.7", "--from", "curators"];
        let report = desk.on(sluice, args.into_iter().chain(["--vantage-command", &lost]));
        let report = report.exits(0).json();
        never_arrived(&report);
    });
}

/// A vantage that is not where it is said to be is found out.
fn granary_is_not_a_curator(desk: &Desk, sluice: &Node, way: &str) {
    let args = ["reach", "--format", "json", "--from", "curators", "--vantage-command", way];
    let report = desk.on(sluice, args).exits(0).json();
    let unknown = report["unknown"].to_string();
    assert!(unknown.contains("none of them is there"), "{unknown}");
}

/// Somebody on the way drops what goes to the web server.
fn block_on_the_way(street: &Node) {
    use tipstaff_wire::nf_tables as nf;
    let block = || {
        let mut batch = nf::Batch::begin(1);
        batch.new_table(&nf::Table { name: "way".into(), ..nf::Table::default() });
        batch.new_chain(&nf::Chain {
            family: nf::FAMILY_INET,
            table: "way".into(),
            name: "out".into(),
            kind: Some("filter".into()),
            hook: Some(nf::Hook { number: nf::Hook::POST_ROUTING, priority: 0 }),
            policy: Some(1),
        });
        batch.new_rule(&nf::Rule {
            table: "way".into(),
            chain: "out".into(),
            expressions: vec![
                nf::Expression::Payload {
                    base: nf::Base::Transport,
                    offset: 2,
                    length: 2,
                    register: 1,
                },
                nf::Expression::Cmp {
                    register: 1,
                    op: nf::Compare::Equal,
                    data: 80u16.to_be_bytes().to_vec(),
                },
                nf::Expression::Immediate(nf::Verdict::Drop),
            ],
            ..nf::Rule::default()
        });
        give(batch);
    };
    street.run(block).expect("entered");
}

#[test]
fn a_far_end_probes_its_asker_and_nobody_else() {
    sealed("vantages::a_far_end_probes_its_asker_and_nobody_else", || {
        let lab = street_sluice_granary();
        let street = lab.node("street").expect("there");
        let desk = Desk::with(POLICY);
        let says = |lines: &str| {
            let mut command = desk.command(["vantage"]);
            command.env("SSH_CONNECTION", "192.0.2.10 50000 192.0.2.1 22");
            command.stdin(std::process::Stdio::piped()).stdout(std::process::Stdio::piped());
            street.start_here(&mut command).expect("it can start there");
            let mut child = command.spawn().expect("it starts");
            let mut input = child.stdin.take().expect("an input");
            std::io::Write::write_all(&mut input, lines.as_bytes()).expect("written");
            drop(input);
            let output = child.wait_with_output().expect("it ends");
            String::from_utf8(output.stdout).expect("text")
        };
        // Its own address unlocks nothing but itself; a secret cannot be guessed.
        let said = says(
            "{\"tipstaff_vantage\":2,\"addresses\":[\"192.0.2.10\",\"10.44.8.20\",\"127.0.0.1\",\
             \"192.0.2.1\",\"203.0.113.9\",\"224.0.0.1\"],\"patience_ms\":200,\"secret_port\":48484}\n\
             {\"heard\":[{\"address\":\"10.44.8.20\",\"secret\":\"00\"}]}\n\
             {\"probe\":1,\"protocol\":\"tcp\",\"destination\":\"10.44.8.20\",\"port\":80}\n\
             {\"probe\":2,\"protocol\":\"tcp\",\"destination\":\"127.0.0.1\",\"port\":80}\n\
             {\"probe\":3,\"protocol\":\"tcp\",\"destination\":\"192.0.2.10\",\"port\":80}\n",
        );
        let lines: Vec<Value> =
            said.lines().map(|it| serde_json::from_str(it).expect("JSON")).collect();
        assert_eq!(lines[0]["secrets"], serde_json::json!(["10.44.8.20"]), "{said}");
        assert_eq!(lines[1]["allowed"], serde_json::json!(["192.0.2.10"]), "{said}");
        for answer in &lines[2..] {
            let refused = answer["error"].as_str().is_some_and(|it| it.contains("not named"));
            assert_eq!(refused, answer["probe"] != 3, "{said}");
        }
        assert_eq!(lines.len(), 5);
        // Who named only others has no say at all.
        let said =
            says("{\"tipstaff_vantage\":2,\"addresses\":[\"203.0.113.9\"],\"patience_ms\":1}\n");
        assert!(said.contains("speaks from 192.0.2.10"), "{said}");
    });
}

#[test]
fn far_ends_that_flood_or_speak_otherwise_are_left() {
    sealed("vantages::far_ends_that_flood_or_speak_otherwise_are_left", || {
        let lab = street_sluice_granary();
        let sluice = lab.node("sluice").expect("there");
        let desk = Desk::with(POLICY);
        let greeting = "{\"tipstaff_vantage\":VERSION,\"addresses\":[\"198.51.100.7\"],\
                        \"most_probes\":18446744073709551615,\"probes_a_second\":1}";
        let script = |name: &str, text: &str| {
            let file = desk.path().join(name);
            fs::write(&file, format!("{text}\n")).expect("written");
            format!("curators=exec /bin/sh {}", file.display())
        };
        let ready = greeting.replace("VERSION", "2");
        let old = greeting.replace("VERSION", "1");
        for (way, word) in [
            (script("words", "yes x"), "not understood"),
            (script("bytes", "cat /dev/zero"), "said too much"),
            (script("old", &format!("echo '{old}'; exec sleep 9")), "version 1"),
            (script("gone", "exit 3"), "ended without a word"),
            (script("half", &format!("echo '{ready}'; yes '{{}}'")), "not understood"),
        ] {
            let begun = Instant::now();
            let args = ["reach", "--from", "curators", "--vantage-command", &way];
            let refused = desk.on(sluice, args).exits(3);
            assert!(refused.stderr.contains(word), "{way}: {}", refused.stderr);
            assert!(begun.elapsed() < Duration::from_secs(8), "{way}");
        }
        // One that promises everything and answers with floods of nonsense.
        let flood = format!("echo '{ready}'; echo '{{\"allowed\":[\"192.0.2.10\"]}}'; yes '{{}}'");
        let way = script("flood", &flood);
        let begun = Instant::now();
        desk.on(sluice, ["reach", "--from", "curators", "--vantage-command", &way]);
        assert!(begun.elapsed() < Duration::from_secs(20), "{:?}", begun.elapsed());
    });
}
