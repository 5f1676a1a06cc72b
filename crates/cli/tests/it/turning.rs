//! Who is turned away, in the policy and in force in one step.

use crate::remembering::World;
use std::fs;
use std::net::TcpListener;
use std::thread::sleep;
use std::time::{Duration, Instant};
use tipstaff_linux::lab::testing::sealed;

const POLICY: &str = "edition = 1\n\
    [place.street]\naddresses = [\"203.0.113.0/24\", \"2001:db8:bad::/64\"]\n\
    [host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\", \"10.44.8.10\"]\n\
    [[host.sluice.rule]]\nname = \"catalogue\"\nallow = [\"443/tcp\", \"2202/tcp\"]\n";

impl World {
    fn policy(&self) -> String {
        fs::read_to_string(self.desk.folder.path().join("policy.toml")).expect("read")
    }
}

#[test]
fn whoever_is_turned_away_is_so_at_once() {
    sealed("turning::whoever_is_turned_away_is_so_at_once", || {
        let world = World::with(POLICY);
        world.enforce();
        let shop = world.node("sluice").run(|| TcpListener::bind("[::]:443"));
        let _shop = shop.expect("entered").expect("bound");
        let knock = |from: &str| match from.contains(':') {
            true => world.knock(from, "[2001:db8:2::10]:443"),
            false => world.knock(from, "192.0.2.10:443"),
        };
        let _open = world.open("203.0.113.9", "192.0.2.10:443").expect("connected");
        let dry = world.run(&["turn-away", "203.0.113.9", "--dry-run"]).exits(0).stdout;
        assert!(dry.contains("not written") && world.policy() == POLICY, "{dry}");

        let began = Instant::now();
        let words =
            ["turn-away", "203.0.113.9", "--for", "7s", "--why", "knocks  at night", "--keep"];
        let told = world.run(&words).exits(0).stdout;
        assert!(told.contains("ended") && told.contains("443/tcp"), "{told}");
        assert!(!knock("203.0.113.9"));
        assert!(knock("203.0.113.66") && knock("2001:db8:bad::9"));
        let line =
            world.policy().lines().find(|it| it.starts_with("turned-away")).map(str::to_owned);
        let line = line.expect("it is written");
        assert!(line.starts_with("turned-away = [\"203.0.113.9 until 20"), "{line}");
        assert!(line.ends_with("Z (knocks at night)\"]"), "{line}");
        world.run(&["status"]).exits(0);
        while !knock("203.0.113.9") {
            assert!(began.elapsed() < Duration::from_secs(60), "it does not end");
            sleep(Duration::from_millis(100));
        }
        assert!(began.elapsed() > Duration::from_secs(7));
        world.run(&["status"]).exits(0);

        // Once more, for good, takes the place of the former; and a place.
        world.run(&["turn-away", "203.0.113.9", "--keep"]).exits(0);
        world.run(&["turn-away", "street", "--keep", "--for", "2h"]).exits(0);
        assert!(!knock("203.0.113.9") && !knock("2001:db8:bad::9"));
        assert!(knock("198.51.100.7"));
        let json = world.run(&["turn-away", "street", "--no-more", "--keep", "--format", "json"]);
        let json = json.exits(0).json();
        assert_eq!(
            (&json["turned_away"], &json["enforced"]["done"]),
            (&false.into(), &"enforced".into())
        );
        assert!(!knock("203.0.113.9") && knock("2001:db8:bad::9"));
        world.run(&["turn-away", "203.0.113.9", "--no-more", "--keep"]).exits(0);
        assert!(knock("203.0.113.9"));
        assert_eq!(world.policy(), POLICY);
        world.run(&["turn-away", "203.0.113.9", "--keep"]).exits(0);
        let again = world.run(&["turn-away", "203.0.113.9", "--keep"]).exits(2).stderr;
        assert!(again.contains("is turned away already"), "{again}");
        world.run(&["turn-away", "203.0.113.9", "--no-more", "--keep"]).exits(0);
        let nobody = world.run(&["turn-away", "203.0.113.9", "--no-more"]).exits(2).stderr;
        assert!(nobody.contains("is not turned away on sluice"), "{nobody}");
        world
            .run(&["host", "change", "sluice", "--turned-away", "street", "!203.0.113.9"])
            .exits(0);
        world.run(&["enforce", "--keep"]).exits(0);
        let told = world.run(&["turn-away", "203.0.113.9", "--keep"]).exits(0).stdout;
        assert!(told.contains("not all of them are"), "{told}");
        // For a time it is a list of its own.
        let told =
            world.run(&["turn-away", "203.0.113.9", "--for", "1h", "--keep"]).exits(0).stdout;
        assert!(
            !told.contains("not all of them are") && told.matches("closes").count() > 0,
            "{told}"
        );
        assert!(!knock("203.0.113.9"));
        world.run(&["host", "change", "sluice", "--drop", "turned-away"]).exits(0);
        assert_eq!(world.policy(), POLICY);
        for wrong in ["", "!203.0.113.9", "nobody", "203.0.113.9 until", "203.0.113.9/33"] {
            assert_eq!(world.run(&["turn-away", wrong]).code, 2, "{wrong}");
        }
        assert_eq!(world.policy(), POLICY);
    });
}

#[test]
fn whose_time_is_over_is_let_alone() {
    sealed("turning::whose_time_is_over_is_let_alone", || {
        let world = World::with(POLICY);
        world.enforce();
        let shop = world.node("sluice").run(|| TcpListener::bind("[::]:443"));
        let _shop = shop.expect("entered").expect("bound");
        world.run(&["turn-away", "203.0.113.9", "--for", "1s", "--keep"]).exits(0);
        let began = Instant::now();
        let open = loop {
            match world.open("203.0.113.9", "192.0.2.10:443") {
                Ok(open) => break open,
                Err(_) => assert!(began.elapsed() < Duration::from_secs(60), "it does not end"),
            }
        };
        let lives = world.run(&["cut"]).exits(0).stdout;
        assert!(lives.contains("no connection lives on"), "{lives}");
        let others = world.run(&["turn-away", "203.0.113.66", "--keep"]).exits(0).stdout;
        assert!(!others.contains("203.0.113.9"), "{others}");
        // Neither was it ended, nor do the witnesses disagree about it.
        assert!(open.peer_addr().is_ok() && open.take_error().expect("asked").is_none());
        let text = world.run(&["reach"]).stdout;
        assert!(text.contains("443/tcp"), "{text}");
        assert!(!text.contains("kernel deny"), "{text}");
    });
}

#[test]
fn whom_a_label_turns_away_is_said_so() {
    sealed("turning::whom_a_label_turns_away_is_said_so", || {
        let labelled = POLICY.replace(
            "[host.sluice]\n",
            "[label.edge]\nturned-away = [\"203.0.113.7\"]\n[host.sluice]\nlabels = [\"edge\"]\n",
        );
        let world = World::with(&labelled);
        world.enforce();
        let others = world.run(&["turn-away", "203.0.113.7", "--no-more"]).exits(2).stderr;
        assert!(others.contains("by a label of sluice"), "{others}");
        // Turned away by the host as well, they stay so by the label.
        world.run(&["turn-away", "203.0.113.7", "--keep"]).exits(0);
        world.run(&["turn-away", "203.0.113.7", "--no-more", "--keep"]).exits(0);
        assert_eq!(world.policy(), labelled);
    });
}

#[test]
fn what_cannot_be_put_in_force_is_not_left_in_the_policy() {
    sealed("turning::what_cannot_be_put_in_force_is_not_left_in_the_policy", || {
        let world = World::with(POLICY);
        // Without rules in force it is written, and that is all.
        let told = world.run(&["turn-away", "203.0.113.9"]).exits(0).stdout;
        assert!(told.contains("no rules are in force"), "{told}");
        world.run(&["turn-away", "203.0.113.9", "--no-more"]).exits(0);
        assert_eq!(world.policy(), POLICY);
        world.enforce();
        let shell = world.node("sluice").run(|| TcpListener::bind("[::]:2202"));
        let shell = shell.expect("entered").expect("bound");
        let session = world.open("198.51.100.7", "192.0.2.10:2202").expect("connected");
        let _served = shell.accept().expect("accepted");
        let port = session.local_addr().expect("told").port();
        let ends = format!("198.51.100.7 {port} 192.0.2.10 2202");
        let own = world.run_in_session(&ends, &["turn-away", "198.51.100.0/24", "--keep"]);
        assert_eq!(own.code, 1, "{}", own.stderr);
        assert!(own.stderr.contains("198.51.100.7"), "{}", own.stderr);
        assert_eq!(world.policy(), POLICY);
        world.run(&["status"]).exits(0);
        assert!(world.knock("198.51.100.7", "192.0.2.10:2202"));

        // What else has been written would come into force with it.
        world.run(&["rule", "add", "notes", "--allow", "22000/tcp"]).exits(0);
        let before = world.policy();
        let refused = world.run(&["turn-away", "203.0.113.9", "--keep"]).exits(1).stderr;
        assert!(refused.contains("changes that are not in force"), "{refused}");
        assert_eq!(world.policy(), before);
    });
}
