//! Rules for users, as administrators meet them: with real processes, on the real kernel.

use crate::programs::{Server, World};
use rustix::process::Uid;
use std::fs;
use std::io::{BufRead, BufReader};
use std::net::TcpListener;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::process::CommandExt;
use std::process::{Command, Stdio};
use tipstaff_linux::lab::testing::sealed_with_hooks;
use tipstaff_linux::sockets::PortProtocol;

/// A user that no list of a machine has.
const STRANGER: u32 = 49_900;

/// Somebody who serves at the port, as a user.
fn serve(world: &World, user: u32) -> Server {
    let folder = fs::Permissions::from_mode(0o755);
    fs::set_permissions(world.shelf.path(), folder).expect("others may look into it");
    let started = world.sluice().run(|| {
        let mut command = Command::new(world.shelf.path().join("seedbase"));
        command.args(["stand-in", "tcp:5432", "udp:5432"]).env_clear();
        command.uid(user).gid(user).current_dir("/").stdout(Stdio::piped()).spawn()
    });
    let mut process = started.expect("entered").expect("it starts");
    let mut ready = String::new();
    let output = process.stdout.take().expect("piped");
    BufReader::new(output).read_line(&mut ready).expect("it speaks");
    assert_eq!(ready, "ready\n");
    Server(process)
}

fn with_world(name: &str, body: impl FnOnce(&World)) {
    let refused = || {
        let world = World::new();
        world.desk.write(policy("user = \"root\""));
        let refused = world.run("enforce --keep").exits(3).stderr;
        assert!(refused.contains("`seeds` names users, which cannot be told apart"), "{refused}");
        assert!(refused.contains("without `user` it would be wider"), "{refused}");
        world.run("enforce --keep --without-programs").exits(0);
    };
    sealed_with_hooks(&format!("users::{name}"), || body(&World::new()), refused);
}

fn policy(keys: &str) -> String {
    format!(
        "edition = 1\n\n[host.sluice]\naddresses = [\"192.0.2.10/24\", \"2001:db8:2::10/64\"]\n\n\
         [[host.sluice.rule]]\nname = \"seeds\"\nallow = [\"5432/tcp+udp\"]\n{keys}\n"
    )
}

#[test]
fn the_whole_course_of_a_rule_for_a_user() {
    with_world("the_whole_course_of_a_rule_for_a_user", |world| {
        world.desk.write(policy(""));
        let said = world.run("rule change seeds --user root").exits(0).stdout;
        assert!(said.contains("user"), "what changes is told: {said}");
        world.run("rule list --where user=root").exits(0);
        let other = serve(world, STRANGER);
        let text = world.run("review --live").exits(1).stdout;
        let words = format!("is for sockets of root, but user {STRANGER}'s waits at 5432/tcp");
        assert!(text.contains("other-user") && text.contains(&words), "{text}");
        world.run("enforce --keep").exits(0);
        assert!(!world.reaches(PortProtocol::Tcp) && !world.reaches(PortProtocol::Udp));
        let reach = world.json("reach");
        assert_eq!(reach["listeners"][0]["from"][0]["policy"], "deny", "{reach:#}");

        // A number beside the name, without typing the name again.
        world.run(&format!("rule change seeds --also-user {STRANGER}")).exits(0);
        world.run("enforce --keep").exits(0);
        world.is_reached(PortProtocol::Tcp, "named by number");
        world.is_reached(PortProtocol::Udp, "named by number");
        assert_eq!(world.json("reach")["listeners"][0]["taken_for"], serde_json::Value::Null);
        drop(other);
        let _root = serve(world, 0);
        world.is_reached(PortProtocol::Tcp, "named by name");
        let text = world.run("review --live").exits(1).stdout;
        assert!(!text.contains("other-user"), "{text}");
        let users = world.json("programs")["users"].clone();
        assert_eq!(users[1]["name"], "root");
        assert_eq!((&users[1]["number"], &users[1]["recognised"]), (&0.into(), &true.into()));
        assert!(world.run("status").exits(0).stdout.contains("Programs and users that rules name"));
        assert_eq!(world.json("enforce --keep")["done"], "unchanged");

        // Each witness agrees, with and without such a socket.
        let tried = world.json("rehearse --traffic 5432/tcp");
        assert_eq!(tried["disagreements"], 0, "{tried:#}");
        let rows = tried["rows"].as_array().expect("rows");
        assert!(rows.iter().any(|it| it["user"] == "root" && it["open"] == "5432/tcp"));
        world.run("rehearse --live").exits(0);
        world.run("release --keep").exits(0);
    });
}

#[test]
fn a_socket_that_was_handed_over_is_its_new_users_for_every_witness() {
    let name = "a_socket_that_was_handed_over_is_its_new_users_for_every_witness";
    with_world(name, |world| {
        world.desk.write(policy(&format!("user = \"{STRANGER}\"")));
        world.run("enforce --keep").exits(0);
        // Made and bound as root, used as another: as where a service manager listens first.
        let serve = || {
            let made = std::thread::spawn(|| {
                let socket = TcpListener::bind("0.0.0.0:5432").expect("bound");
                let user = Uid::from_raw(STRANGER);
                rustix::thread::set_thread_res_uid(user, user, user).expect("another user now");
                socket.local_addr().expect("asked for its name");
                socket
            });
            made.join().expect("made")
        };
        let _held = world.sluice().run(serve).expect("entered");
        world.is_reached(PortProtocol::Tcp, "taken over");
        let reach = world.json("reach");
        let listener = &reach["listeners"][0];
        assert_eq!(listener["from"][0]["policy"], "allow", "{listener:#}");
        assert!(listener["taken_for"].is_null(), "{listener:#}");
        let said = world.run("review --live").exits(1).stdout;
        assert!(!said.contains("other-user"), "{said}");
        world.run("rehearse --live --traffic 5432/tcp").exits(0);
    });
}

#[test]
fn users_who_are_not_there_match_nothing_and_are_said() {
    with_world("users_who_are_not_there_match_nothing_and_are_said", |world| {
        world.desk.write(policy("user = \"no-such-user\""));
        let text = world.run("review --live").exits(1).stdout;
        assert!(text.contains("names the user no-such-user, who is not known here"), "{text}");
        world.run("enforce --keep").exits(0);
        let _root = serve(world, 0);
        assert!(!world.reaches(PortProtocol::Tcp));
        let text = world.run("programs").exits(1).stdout;
        assert!(text.contains("no user no-such-user is known here"), "{text}");
        let text = world.run("ask --from 203.0.113.9 --traffic 5432/tcp").exits(1).stdout;
        assert!(text.contains("--user"), "it depends on the user: {text}");
        let words = "ask --from 203.0.113.9 --traffic 5432/tcp --user no-such-user";
        assert!(world.run(words).exits(0).stdout.contains("allow"));
    });
}
