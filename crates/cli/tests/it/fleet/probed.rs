//! What hosts really reach.

use super::world::{HOSTS, World};
use serde_json::{Value, json};
use std::net::TcpListener;
use std::time::Duration;
use tipstaff_linux::lab::testing::sealed;

const FLEET: &str = include_str!("../../../../../demo/fleet.toml");

/// Bench at home only, as the lab has it.
fn at_home() -> String {
    FLEET.replace(", \"10.99.0.30\", \"fd99::30\"]", "]").replace(
        "interfaces = { stacks = \"eth0\", tunnel = \"tun0\" }",
        "interfaces = { stacks = \"eth0\" }",
    )
}

fn listens(world: &World, host: &str, port: u16) -> TcpListener {
    let bind = || TcpListener::bind(("0.0.0.0", port));
    world.node(host).run(bind).expect("entered").expect("bound")
}

fn probe(world: &World, more: &[&str], exit: i32) -> Value {
    let words = [&["probe"], more, &["--format", "json"]].concat();
    world.office.fleet(&words).exits(exit).json()
}

fn of<'v>(found: &'v Value, from: &str, to: &str) -> &'v Value {
    let tries = found["tries"].as_array().expect("tries");
    let is = |it: &&Value| {
        it["from"] == from
            && it["to"] == to
            && it["at"].as_str().is_some_and(|it| it.starts_with("10."))
    };
    tries.iter().find(is).unwrap_or_else(|| panic!("nobody tried: {found}"))
}

#[test]
fn hosts_try_each_other_and_lies_are_seen() {
    sealed("fleet::probed::hosts_try_each_other_and_lies_are_seen", || {
        let mut world = World::new(&at_home());
        let _database = listens(&world, "granary", 5432);
        world.office.fleet(&["seal", "--key", "key"]).exits(0);
        HOSTS.iter().for_each(|it| world.attend(it));
        world.office.fleet(&["roll-out"]).exits(0);
        let asked = ["5432/tcp", "--to", "granary", "--within", "stacks"];
        let found = probe(&world, &asked, 0);
        let one = of(&found, "sluice", "granary");
        assert_eq!((&one["said"], &one["met"]), (&json!(["allow"]), &json!("open")), "{found}");
        let other = of(&found, "bench", "granary");
        assert_eq!(
            (&other["said"], &other["met"]),
            (&json!(["deny"]), &json!("silent")),
            "{found}"
        );
        // Nobody listens there, and the host says so itself: it lets it in.
        let metrics = probe(
            &world,
            &["9100/tcp", "--from", "sluice", "--to", "desk", "--within", "stacks"],
            0,
        );
        assert_eq!(of(&metrics, "sluice", "bench")["met"], "refused", "{metrics}");
        // Somebody opens granary by hand, in the kernel alone: the wire tells.
        world.on("granary", &["release", "--keep"]).exits(0);
        let lie = probe(&world, &asked, 1);
        let other = of(&lie, "bench", "granary");
        assert_eq!((&other["met"], &other["agrees"]), (&json!("open"), &json!("no")), "{lie}");
        // Who is gone says nothing, and that is not taken for silence of the wire.
        world.end("bench");
        let gone =
            probe(&world, &[&asked[..], &["--from", "bench", "--patience", "2s"]].concat(), 1);
        let other = of(&gone, "bench", "granary");
        assert_eq!((&other["met"], &other["agrees"]), (&Value::Null, &json!("unknown")), "{gone}");
        for wrong in [
            &["icmp"][..],
            &["1-100/tcp"],
            &["5432/tcp", "--to", "nobody"],
            &["5432/tcp", "--from", "granary", "--to", "granary"],
        ] {
            world.office.fleet(&[&["probe"], wrong].concat()).exits(2);
        }
    });
}

/// Whoever can write at the carrier has hosts try addresses of the fleet, and no others.
#[test]
fn hosts_are_nobodys_tool() {
    sealed("fleet::probed::hosts_are_nobodys_tool", || {
        let mut world = World::new(&at_home());
        let victim = listens(&world, "street", 5432);
        world.office.fleet(&["seal", "--key", "key"]).exits(0);
        world.attend("sluice");
        world.office.fleet(&["roll-out", "--steps", "1"]).exits(0);
        let folder = world.office.path("carrier/questions");
        std::fs::create_dir_all(&folder).expect("a folder");
        let a_try = |at: &str, source: Value| json!({ "from": "sluice", "to": "granary", "source": source, "at": at, "protocol": "tcp" });
        let mut tries = vec![
            a_try("198.51.100.7:5432", Value::Null),
            a_try("10.44.8.20:5432", json!("198.51.100.7")),
            a_try("10.44.8.20:5432", Value::Null),
        ];
        tries.extend((0..200).map(|_| a_try("10.44.8.20:5432", Value::Null)));
        let question =
            json!({ "fleet": "tidewater", "at": "2026-12-01T09:00:00Z", "tries": tries });
        std::fs::write(folder.join("000000000001.json"), question.to_string()).expect("written");
        let answer = world.office.path("carrier/hosts/.sluice.tried.json");
        let began = std::time::Instant::now();
        while !answer.exists() {
            assert!(began.elapsed() < super::world::MOST, "no answer");
            std::thread::sleep(Duration::from_millis(200));
        }
        let told: Value =
            serde_json::from_slice(&std::fs::read(&answer).expect("read")).expect("JSON");
        let met = told["met"].as_array().expect("what was met");
        assert_eq!(met[0]["state"], Value::Null, "{told}");
        assert!(met[0]["why"].as_str().expect("why").contains("no host of the fleet"), "{told}");
        assert!(met[1]["why"].as_str().expect("why").contains("none of this host's"), "{told}");
        assert!(met[2]["state"].is_string(), "{told}");
        let tried = met.iter().filter(|it| it["state"].is_string()).count();
        assert!(tried <= 64, "{tried}");
        victim.set_nonblocking(true).expect("set");
        assert!(victim.accept().is_err(), "somebody outside the fleet was called");
    });
}

/// What answered before and does not after makes a host go back, and the roll-out stop; what did not before is told.
#[test]
fn what_answered_has_to_answer_still() {
    sealed("fleet::probed::what_answered_has_to_answer_still", || {
        let mut world = World::new(&at_home());
        let database = listens(&world, "granary", 5432);
        world.office.fleet(&["seal", "--key", "key"]).exits(0);
        HOSTS.iter().for_each(|it| world.attend(it));
        world.office.fleet(&["roll-out"]).exits(0);
        world.until("sluice", "unanswered", 1);
        let said = world.stands("sluice");
        // IPv6 has no listener here.
        assert!(said["why"].as_str().expect("why").contains("[fd44:8::20]:5432"), "{said}");
        world.office.seals(&format!(
            "{}\n[[host.sluice.rule]]\nname = \"no-database\"\ndirection = \"outbound\"\ndeny = [\"5432/tcp\"]\n",
            at_home()
        ));
        let stopped = world.office.fleet(&["roll-out", "--format", "json"]).exits(1).json();
        let sluice = &stopped["have_not"][0];
        assert_eq!(
            (&sluice["host"], &sluice["stands"]),
            (&json!("sluice"), &json!("went-back")),
            "{stopped}"
        );
        assert!(
            sluice["why"]
                .as_str()
                .expect("why")
                .contains("granary does not answer at 10.44.8.20:5432"),
            "{stopped}"
        );
        assert_eq!(stopped["wait"], json!(["granary", "bench"]));
        world.in_force("sluice");
        // Whose service is down for other reasons, that is nothing a bundle breaks.
        drop(database);
        world
            .office
            .seals(&at_home().replace("why = \"The catalogue lives on it\"", "why = \"Still\""));
        world.office.fleet(&["roll-out"]).exits(0);
        world.until("sluice", "unanswered", 3);
    });
}
