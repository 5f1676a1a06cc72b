//! The status as measurements, read as strictly as the OpenMetrics specification is written.

use crate::harness::{Desk, MENDED};
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::net::UdpSocket;
use std::os::unix::fs::PermissionsExt;
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary};

/// The samples of an exposition by their names and labels; anything that a strict reader refuses fails.
pub fn samples(text: &str) -> BTreeMap<String, f64> {
    let body = text.strip_suffix("# EOF\n").expect("it ends with its end");
    assert!(!body.contains("# EOF"), "there is one end");
    let (mut families, mut found) = (BTreeMap::new(), BTreeMap::new());
    let mut current: Option<(String, &str)> = None;
    for line in body.lines() {
        if let Some(rest) = line.strip_prefix("# TYPE ") {
            let (name, kind) = rest.split_once(' ').expect("a name and a type");
            assert!(["gauge", "counter"].contains(&kind), "{line}");
            assert!(families.insert(name.to_owned(), kind).is_none(), "{name} begins once");
            current = Some((name.to_owned(), kind));
            continue;
        }
        let (family, kind) = current.as_ref().expect("a family was begun");
        if let Some(rest) = line.strip_prefix("# UNIT ") {
            let (name, unit) = rest.split_once(' ').expect("a name and a unit");
            assert!(name == family && name.ends_with(&format!("_{unit}")), "{line}");
            continue;
        }
        if let Some(rest) = line.strip_prefix("# HELP ") {
            assert!(rest.starts_with(&format!("{family} ")) && rest.len() > family.len() + 5);
            continue;
        }
        let (series, value) = line.rsplit_once(' ').expect("a series and its value");
        let value: f64 = value.parse().expect("a number");
        let (name, labels) = series.split_once('{').expect("labels");
        let meant = if *kind == "counter" { format!("{family}_total") } else { family.clone() };
        assert_eq!(name, meant, "samples follow their family: {line}");
        assert!(*kind == "gauge" || value >= 0.0, "{line}");
        labels_of(labels.strip_suffix('}').expect("their end"));
        assert!(found.insert(series.to_owned(), value).is_none(), "{series} stands once");
    }
    found
}

/// Reads `a="x",b="y"`, and gives the labels' names.
fn labels_of(mut text: &str) -> BTreeSet<&str> {
    let mut names = BTreeSet::new();
    loop {
        let (name, rest) = text.split_once("=\"").expect("a label");
        assert!(name.bytes().all(|it| it.is_ascii_lowercase() || it == b'_'), "{name}");
        assert!(names.insert(name), "{name} stands once");
        let mut escaped = false;
        let end = rest.char_indices().find(|&(_, it)| {
            let ends = it == '"' && !escaped;
            escaped = it == '\\' && !escaped;
            ends
        });
        let rest = &rest[end.expect("the end of the value").0 + 1..];
        if rest.is_empty() {
            return names;
        }
        text = rest.strip_prefix(',').expect("a comma between labels");
    }
}

fn sluice(desk: &Desk, words: &str) -> crate::harness::Outcome {
    desk.run(["--host", "sluice"].into_iter().chain(words.split(' ')))
}

#[test]
fn the_status_as_measurements_says_what_it_says_otherwise() {
    let name = "metrics::the_status_as_measurements_says_what_it_says_otherwise";
    sealed(name, || {
        let desk = Desk::with(MENDED);
        let read = |code| samples(&sluice(&desk, "status --format openmetrics").exits(code).stdout);
        let before = read(1);
        assert_eq!(before["tipstaff_in_force{host=\"sluice\"}"], 0.0);
        assert!(
            !before.keys().any(|it| it.starts_with("tipstaff_equal")),
            "nothing is known of it"
        );
        sluice(&desk, "enforce --keep --not-this-machine").exits(0);
        let found = read(0);
        for gauge in ["in_force", "equal", "same_policy"] {
            assert_eq!(found[&format!("tipstaff_{gauge}{{host=\"sluice\"}}")], 1.0, "{gauge}");
        }
        assert_eq!(found["tipstaff_pending{host=\"sluice\"}"], 0.0);
        assert!(found["tipstaff_in_force_since_seconds{host=\"sluice\"}"] > 1.7e9);
        let status = sluice(&desk, "status --format json").exits(0).json();
        let mut told = 0;
        for rule in status["rules"].as_array().expect("rules") {
            let text = |key: &str| rule[key].as_str().unwrap_or_default();
            let series = format!(
                "{{host=\"sluice\",direction=\"{}\",kind=\"{}\",name=\"{}\",verdict=\"{}\"}}",
                text("direction"),
                text("kind"),
                text("name"),
                text("verdict")
            );
            for (family, key) in [
                ("packets", "packets"),
                ("bytes", "bytes"),
                ("excess_packets", "excess_packets"),
                ("excess_bytes", "excess_bytes"),
                ("crowded_packets", "crowded_packets"),
            ] {
                let value = found.get(&format!("tipstaff_decision_{family}_total{series}"));
                assert_eq!(value.is_some(), !rule[key].is_null(), "{series} {key}");
                told += usize::from(value.is_some());
            }
        }
        let counted = found.keys().filter(|it| it.starts_with("tipstaff_decision_")).count();
        assert_eq!(told, counted, "and nothing besides");
        // What waits is seen.
        sluice(&desk, "rule pause metrics").exits(0);
        let different = read(1);
        assert_eq!(different["tipstaff_equal{host=\"sluice\"}"], 0.0);
        assert!(different["tipstaff_trouble{host=\"sluice\",about=\"differences\"}"] > 0.0);
        let refused = sluice(&desk, "show --format openmetrics").exits(2).stderr;
        assert!(refused.contains("openmetrics"), "{refused}");
        sluice(&desk, "status --kernel --format openmetrics").exits(2);
    });
}

#[test]
fn very_many_rules_make_no_more_series_than_are_said() {
    sealed("metrics::very_many_rules_make_no_more_series_than_are_said", || {
        let mut text = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n".to_owned();
        for number in 0..700 {
            text += &format!(
                "[[host.sluice.rule]]\nname = \"rule-{number}\"\nallow = [\"{}/tcp\"]\n",
                1_000 + number
            );
        }
        let desk = Desk::with(text);
        sluice(&desk, "enforce --keep --not-this-machine").exits(0);
        let text = sluice(&desk, "status --format openmetrics").exits(0).stdout;
        let found = samples(&text);
        let packets = |it: &&String| it.starts_with("tipstaff_decision_packets_total");
        let series: Vec<&String> = found.keys().filter(packets).collect();
        assert!(series.len() <= 503 && series.len() > 500, "{}", series.len());
        assert!(
            series
                .iter()
                .any(|it| it.contains("direction=\"inbound\",kind=\"rule\",name=\"(others)\""))
        );
    });
}

#[test]
fn a_file_of_measurements_is_whole_at_every_moment() {
    sealed("metrics::a_file_of_measurements_is_whole_at_every_moment", || {
        let desk = Desk::with(MENDED);
        sluice(&desk, "enforce --keep --not-this-machine").exits(0);
        let folder = desk.path().join("collected");
        fs::create_dir(&folder).expect("a folder");
        let file = folder.join("tipstaff.prom");
        let write = format!("status --textfile {}", file.display());
        let printed = sluice(&desk, &write).exits(0);
        assert_eq!(printed.stdout, "");
        let text = fs::read_to_string(&file).expect("written");
        samples(&text);
        let mode = fs::metadata(&file).expect("there").permissions().mode() & 0o777;
        assert_eq!(mode, 0o644, "whoever collects may read it");
        assert_eq!(fs::read_dir(&folder).expect("a folder").count(), 1, "and nothing beside it");
        // A folder in its place: what was there stays, and the failure says so.
        let taken = folder.join("taken");
        fs::create_dir(&taken).expect("a folder");
        let failed = sluice(&desk, &format!("status --textfile {}", taken.display())).exits(3);
        assert!(failed.stderr.contains("what was there before still is"), "{}", failed.stderr);
        assert_eq!(fs::read_dir(&folder).expect("a folder").count(), 2);
        sluice(&desk, "status --textfile /").exits(2);
        // Whoever reads meets the old one or the new one.
        std::thread::scope(|threads| {
            let reader = threads.spawn(|| {
                for _ in 0..400 {
                    samples(&fs::read_to_string(&file).expect("it is there"));
                }
            });
            for _ in 0..5 {
                sluice(&desk, &write).exits(0);
            }
            reader.join().expect("always whole");
        });
    });
}

#[test]
fn who_came_as_measurements_is_what_is_remembered() {
    sealed("metrics::who_came_as_measurements_is_what_is_remembered", || {
        let lab = street_sluice_granary();
        let (host, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
        let desk = Desk::with(MENDED);
        let run =
            |words: &str| desk.on(host, ["--host", "sluice"].into_iter().chain(words.split(' ')));
        run("enforce --keep").exits(0);
        for from in ["203.0.113.9:0", "198.51.100.7:0"] {
            let caller = street.run(|| UdpSocket::bind(from)).expect("entered").expect("bound");
            for _ in 0..3 {
                caller.send_to(b"?", "192.0.2.10:9").expect("sent");
            }
        }
        std::thread::sleep(std::time::Duration::from_millis(50));
        let told = samples(&run("callers --format openmetrics").exits(0).stdout);
        let of =
            "{host=\"sluice\",direction=\"inbound\",name=\"default/inbound\",fared=\"denied\"}";
        assert_eq!(told[&format!("tipstaff_callers_packets{of}")], 6.0);
        assert_eq!(told[&format!("tipstaff_callers_senders{of}")], 2.0);
        assert_eq!(told["tipstaff_callers_room_entries{host=\"sluice\"}"], 65_536.0);
        assert_eq!(told["tipstaff_callers_no_room_packets_total{host=\"sluice\"}"], 0.0);
        let file = desk.folder.path().join("callers.prom");
        let silent = run(&format!("callers --textfile {}", file.display())).exits(0);
        assert_eq!(silent.stdout, "");
        assert_eq!(samples(&fs::read_to_string(&file).expect("written")), told);
        run("callers --format openmetrics --by port").exits(2);
    });
}
