//! The shut door, by the command.

use crate::harness::{Outcome, finish};
use crate::remembering::World;
use serde_json::Value;
use std::fs;
use std::io::{Read, Write};
use std::net::TcpListener;
use std::thread::sleep;
use std::time::{Duration, Instant};
use tipstaff_linux::lab::testing::sealed;

const POLICY: &str = "edition = 1\n\
    [host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\", \"10.44.8.10\"]\n\
    [[host.sluice.rule]]\nname = \"catalogue\"\nallow = [\"443/tcp\", \"2202/tcp\"]\n";

impl World {
    /// Runs a command as if from a remote session.
    pub fn run_in_session(&self, session: &str, args: &[&str]) -> Outcome {
        let mut command = self.desk.command(["--host", "sluice"].iter().chain(args));
        command.env("SSH_CONNECTION", session);
        self.node("sluice").start_here(&mut command).expect("it can start there");
        finish(command)
    }
}

#[test]
fn the_door_is_shut_in_one_command_and_opened_in_one() {
    sealed("shutting::the_door_is_shut_in_one_command_and_opened_in_one", || {
        let world = World::with(POLICY);
        world.enforce();
        let server = |port| {
            let bound = world.node("sluice").run(move || TcpListener::bind(("::", port)));
            bound.expect("entered").expect("bound")
        };
        let (shop, shell) = (server(443), server(2202));
        let knock = || world.knock("203.0.113.9", "192.0.2.10:443");
        let mut session = world.open("198.51.100.7", "192.0.2.10:2202").expect("connected");
        let (mut served, _) = shell.accept().expect("accepted");
        let _other = world.open("203.0.113.9", "192.0.2.10:443").expect("connected");
        let (mut ended, _) = shop.accept().expect("accepted");
        let ends =
            format!("198.51.100.7 {} 192.0.2.10 2202", session.local_addr().expect("told").port());
        assert!(knock());
        drop(shop.accept().expect("accepted"));

        let refused = world.run_in_session(&ends, &["shut", "--all"]);
        assert_eq!(refused.code, 1, "{}", refused.stderr);
        assert!(refused.stderr.contains("your own session"), "{}", refused.stderr);
        assert!(knock(), "nothing was done");
        drop(shop.accept().expect("accepted"));

        let text =
            world.run_in_session(&ends, &["shut", "--why", "somebody is in"]).exits(0).stdout;
        for part in ["only loopback passes", "why: somebody is in", "should your session break"] {
            assert!(text.contains(part), "{part}: {text}");
        }
        assert!(!knock());
        session.write_all(b"x").expect("sent");
        served.set_read_timeout(Some(Duration::from_secs(2))).expect("set");
        assert_eq!(served.read(&mut [0; 4]).expect("it goes on"), 1);
        // Its socket was ended here.
        ended.set_read_timeout(Some(Duration::from_secs(2))).expect("set");
        let error = ended.read(&mut [0; 4]).expect_err("ended");
        assert_eq!(error.kind(), std::io::ErrorKind::ConnectionAborted, "{error}");

        let status = world.run(&["status", "--format", "json"]).exits(1).json();
        assert_eq!(status["posture"]["posture"], "shut");
        assert_eq!(status["posture"]["why"], "somebody is in");
        assert_eq!(status["equal"], true);
        let text = world.run(&["enforce", "--keep"]).exits(0).stdout;
        assert!(text.contains("the door is shut since"), "{text}");
        assert!(!knock());
        let opened = world.run(&["posture", "leave"]).exits(0).stdout;
        assert!(opened.contains("open again"), "{opened}");
        assert!(knock());
        world.run(&["status"]).exits(0);
        let again = world.run(&["posture", "leave", "--format", "json"]).exits(0).json();
        assert_eq!((&again["done"], &again["posture"]), (&"nothing-to-leave".into(), &Value::Null));
    });
}

#[test]
fn whoever_came_back_by_another_way_is_not_shut_out() {
    sealed("shutting::whoever_came_back_by_another_way_is_not_shut_out", || {
        let world = World::with(POLICY);
        world.enforce();
        let shop = world.node("sluice").run(|| TcpListener::bind("[::]:443"));
        let _shop = shop.expect("entered").expect("bound");
        // What the environment tells of has ended.
        let gone = "198.51.100.7 9 192.0.2.10 2202";
        let refused = world.run_in_session(gone, &["shut"]);
        assert_eq!(refused.code, 1, "{}", refused.stderr);
        assert!(refused.stderr.contains("has ended"), "{}", refused.stderr);
        assert!(world.knock("203.0.113.9", "192.0.2.10:443"), "nothing was done");
        world.run_in_session(gone, &["shut", "--for", "1h"]).exits(0);
        assert!(!world.knock("203.0.113.9", "192.0.2.10:443"));
        world.run(&["posture", "leave"]).exits(0);
        // The one that lives goes on.
        let session = world.open("198.51.100.7", "192.0.2.10:443").expect("connected");
        let port = session.local_addr().expect("told").port();
        let ends = format!("198.51.100.7 {port} 192.0.2.10 443");
        let text = world.run_in_session(&ends, &["shut"]).exits(0).stdout;
        assert!(text.contains(&format!("198.51.100.7:{port} to 192.0.2.10:443")), "{text}");
        world.run(&["posture", "leave"]).exits(0);
    });
}

#[test]
fn no_policy_and_nothing_on_disk_is_needed() {
    sealed("shutting::no_policy_and_nothing_on_disk_is_needed", || {
        let world = World::with("this is no policy [");
        let shop = world.node("sluice").run(|| TcpListener::bind("[::]:443"));
        let _shop = shop.expect("entered").expect("bound");
        let knock = || world.knock("203.0.113.9", "192.0.2.10:443");
        assert!(knock());
        let folder = world.desk.folder.path();
        let before: Vec<_> =
            fs::read_dir(folder).expect("read").map(|it| it.expect("it")).collect();
        world.run(&["posture", "take", "shut", "--for", "6s"]).exits(0);
        assert!(!knock());
        let shown = world.run(&["posture", "--format", "json"]).exits(0).json();
        assert_eq!((&shown["posture"], &shown["intact"]), (&"shut".into(), &true.into()));
        assert!(shown["until"].is_string(), "{shown}");
        let began = Instant::now();
        while !knock() {
            assert!(began.elapsed() < Duration::from_secs(60), "it does not open");
            sleep(Duration::from_millis(100));
        }
        let shown = world.run(&["posture", "show", "--format", "json"]).exits(0).json();
        assert_eq!(shown["posture"], Value::Null);
        world.run(&["shut"]).exits(0);
        let text = world.run(&["posture", "leave"]).exits(0).stdout;
        assert!(text.contains("no rules of ours are in force"), "{text}");
        assert!(knock());
        let after: Vec<_> = fs::read_dir(folder).expect("read").map(|it| it.expect("it")).collect();
        assert_eq!(before.len(), after.len(), "{after:?}");
        for wrong in ["0", "-1", "soon", "9999 days"] {
            assert_eq!(world.run(&["shut", "--for", wrong]).code, 2, "{wrong}");
        }
    });
}
