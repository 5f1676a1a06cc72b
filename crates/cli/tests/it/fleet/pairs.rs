//! From host to host, by the word of both.

use crate::harness::{Desk, INHERITED, MENDED};
use serde_json::{Value, json};
use std::net::TcpListener;
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary_bench};
use tipstaff_linux::probe::{Attempt, State, attempt};
use tipstaff_linux::sockets::PortProtocol;

#[test]
fn one_host_reaches_another_if_both_let_it() {
    let desk = Desk::with(INHERITED);
    let told = desk.run(["fleet", "reach", "bench", "granary", "5432/tcp"]).exits(0).stdout;
    let mut all = told;
    desk.write(MENDED);
    for words in [
        &["bench", "granary", "5432/tcp", "--through", "sluice"][..],
        &["sluice", "granary", "5432/tcp"],
        &["bench", "sluice", "25/tcp"],
        &["granary", "bench", "22000/tcp+udp"],
    ] {
        let outcome = desk.run([&["fleet", "reach"], words].concat());
        assert!(outcome.code <= 1, "{outcome:?}");
        all.push_str(&format!("\n# {}: {}\n{}", words.join(" "), outcome.code, outcome.stdout));
    }
    insta::assert_snapshot!(all);
    let unknown = desk.run(["fleet", "reach", "bench", "granry", "5432/tcp"]).exits(2).stderr;
    assert!(unknown.contains("granary"), "{unknown}");
    desk.run(["fleet", "reach", "bench", "granary", "five/tcp"]).exits(2);
    desk.write(format!("{MENDED}\n[host.roamer]\n"));
    let nowhere = desk.run(["fleet", "reach", "roamer", "granary", "5432/tcp"]).exits(2).stderr;
    assert!(nowhere.contains("addresses of roamer are not listed"), "{nowhere}");
}

/// The matrix says of each pair what `reach` says.
#[test]
fn the_matrix_says_of_each_pair_what_is_said_of_it_alone() {
    for (policy, traffic) in
        [(INHERITED, "5432/tcp"), (MENDED, "5432/tcp"), (MENDED, "any"), (MENDED, "25-9100/tcp")]
    {
        let desk = Desk::with(policy);
        let matrix = desk.run(["fleet", "matrix", traffic, "--format", "json"]).exits(0).json();
        let mut pairs = 0;
        for row in matrix["rows"].as_array().expect("rows") {
            for from in row["from"].as_array().expect("senders") {
                for word in ["yes", "in_part", "no"] {
                    for to in
                        row[word].as_array().expect("receivers").iter().filter(|it| *it != from)
                    {
                        let ends = [from, to].map(|it| it.as_str().expect("a name"));
                        let one = ["fleet", "reach", ends[0], ends[1], traffic, "--format", "json"];
                        let one: Value = desk.run(one).json();
                        assert_eq!(
                            one["reaches"],
                            json!(word.replace('_', "-")),
                            "{ends:?} {traffic}"
                        );
                        pairs += 1;
                    }
                }
            }
        }
        assert_eq!(pairs, 6, "{matrix}");
    }
    let desk = Desk::with(format!("{MENDED}\n[host.roamer]\n"));
    insta::assert_snapshot!(desk.run(["fleet", "matrix", "5432/tcp"]).exits(0).stdout);
}

/// What is said is what the wire does, with the policy in force on all of them.
#[test]
fn the_wire_does_what_the_matrix_says() {
    sealed("fleet::pairs::the_wire_does_what_the_matrix_says", || {
        let lab = street_sluice_granary_bench();
        let desk = Desk::with(MENDED);
        let hosts = [("sluice", "10.44.8.10"), ("granary", "10.44.8.20"), ("bench", "10.44.8.30")];
        for (host, _) in hosts {
            desk.on(lab.node(host).expect("it"), ["--host", host, "enforce", "--keep"]).exits(0);
        }
        let ports = [25, 80, 873, 5432, 9100, 22_000];
        let mut listening = Vec::new();
        for (host, _) in hosts {
            for port in ports {
                let bind = || TcpListener::bind(("0.0.0.0", port));
                listening
                    .push(lab.node(host).expect("it").run(bind).expect("entered").expect("bound"));
            }
        }
        let mut seen = [0, 0];
        for port in ports {
            for (from, source) in hosts {
                for (to, destination) in hosts.iter().filter(|it| it.0 != from) {
                    let traffic = format!("{port}/tcp");
                    let words = ["fleet", "reach", from, to, &traffic, "--format", "json"];
                    let said = desk.run(words).json();
                    // By these two addresses.
                    let admitted = said["fates"].as_array().expect("fates").iter().any(|fate| {
                        let of = |region: &Value, key: &str, address: &str| {
                            let list = region[key].as_array().expect("a list");
                            list.is_empty() || list.iter().any(|it| it == address)
                        };
                        fate["verdict"] == "allow"
                            && fate["regions"]
                                .as_array()
                                .expect("regions")
                                .iter()
                                .any(|it| of(it, "from", source) && of(it, "to", destination))
                    });
                    let tried = Attempt {
                        protocol: PortProtocol::Tcp,
                        source: Some(source.parse().expect("an address")),
                        destination: format!("{destination}:{port}").parse().expect("one"),
                        patience: std::time::Duration::from_millis(400),
                    };
                    let node = lab.node(from).expect("it");
                    let met = node.run(|| attempt(&tried)).expect("entered");
                    let through = met.expect("tried").state == State::Open;
                    assert_eq!(through, admitted, "{from} to {to} {traffic}: {said}");
                    seen[usize::from(through)] += 1;
                }
            }
        }
        assert!(seen[0] > 5 && seen[1] > 5, "{seen:?}");
    });
}
