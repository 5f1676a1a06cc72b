//! Decisions handed on to those who keep them.

use crate::remembering::World;
use rustix::mount::{MountFlags, mount};
use serde_json::Value;
use std::fs;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::os::unix::net::UnixDatagram;
use std::thread::sleep;
use std::time::Duration;
use tipstaff_linux::lab::testing::sealed;

const POLICY: &str = "edition = 1\n\
    [place.street]\naddresses = [\"203.0.113.0/24\"]\n\
    [host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\", \"10.44.8.10\"]\n\
    [[host.sluice.rule]]\nname = \"nuisance\"\ndeny = [\"123/udp\"]\nfrom = [\"street\"]\n";

/// The journal's socket, where nobody but this test sees it.
fn journal() -> UnixDatagram {
    mount(c"run", c"/run", c"tmpfs", MountFlags::empty(), c"mode=755").expect("mounted");
    fs::create_dir_all("/run/systemd/journal").expect("a folder");
    let socket = UnixDatagram::bind("/run/systemd/journal/socket").expect("bound");
    socket.set_read_timeout(Some(Duration::from_secs(10))).expect("set");
    socket
}

fn received(socket: &UnixDatagram) -> String {
    let mut room = [0; 4_096];
    let length = socket.recv(&mut room).expect("it comes");
    String::from_utf8(room[..length].to_vec()).expect("a text")
}

/// What a collector is told, which answers each time.
pub fn told(listener: &TcpListener) -> Value {
    let (mut caller, _) = listener.accept().expect("a caller");
    let text = body(&mut caller);
    caller
        .write_all(b"HTTP/1.1 200 OK\r\ncontent-length: 2\r\nconnection: close\r\n\r\n{}")
        .expect("answered");
    serde_json::from_str(&text).expect("JSON")
}

fn body(caller: &mut TcpStream) -> String {
    let (mut text, mut room) = (String::new(), [0; 65_536]);
    loop {
        let length = caller.read(&mut room).expect("it goes on");
        text.push_str(std::str::from_utf8(&room[..length]).expect("a text"));
        let Some((head, body)) = text.split_once("\r\n\r\n") else { continue };
        assert!(head.starts_with("POST /v1/logs "), "{head}");
        let head = head.to_ascii_lowercase();
        let length = head.lines().find_map(|it| it.strip_prefix("content-length: "));
        let length: usize = length.expect("told").parse().expect("a number");
        if body.len() == length {
            return body.to_owned();
        }
    }
}

#[test]
fn a_journal_a_log_server_and_a_collector_have_each_decision() {
    sealed("handing_on::a_journal_a_log_server_and_a_collector_have_each_decision", || {
        let world = World::with(POLICY);
        world.enforce();
        let (journal, log) = (journal(), UnixDatagram::bind("/run/log").expect("bound"));
        log.set_read_timeout(Some(Duration::from_secs(10))).expect("set");
        let collector = world.node("sluice").run(|| TcpListener::bind("127.0.0.1:4318"));
        let collector = collector.expect("entered").expect("bound");
        let child = world.watch(&[
            "rule",
            "nuisance",
            "--count",
            "3",
            "--journal",
            "--syslog",
            "unix:/run/log",
            "--otlp",
            "http://127.0.0.1:4318",
        ]);
        world.say("203.0.113.9", "192.0.2.10:123", 3);
        let entry = received(&journal);
        println!("{entry}");
        assert!(entry.starts_with(
            "MESSAGE=deny inbound 123/udp from 203.0.113.9 to 192.0.2.10 by nuisance\n"
        ));
        for field in [
            "PRIORITY=5",
            "SYSLOG_IDENTIFIER=tipstaff",
            "TIPSTAFF_RULE=nuisance",
            "TIPSTAFF_PLACE=street",
        ] {
            assert!(entry.lines().any(|it| it == field), "{field}: {entry}");
        }
        let message = received(&log);
        println!("{message}");
        assert!(message.starts_with("<37>1 20"), "{message}");
        assert!(
            message.contains(" sluice tipstaff ")
                && message.contains(" decision [tipstaff@32473 verdict=\"deny\"")
        );
        assert!(
            message.ends_with("] deny inbound 123/udp from 203.0.113.9 to 192.0.2.10 by nuisance")
        );
        let mut records = Vec::new();
        while records.len() < 3 {
            let told = told(&collector);
            let logs = told["resourceLogs"][0]["scopeLogs"][0]["logRecords"].as_array().cloned();
            records.extend(logs.expect("a list"));
        }
        assert_eq!(
            records[0]["body"]["stringValue"],
            "deny inbound 123/udp from 203.0.113.9 to 192.0.2.10 by nuisance"
        );
        assert_eq!(records[0]["severityText"], "INFO2");
        for socket in [&journal, &log] {
            (0..2).for_each(|_| drop(received(socket)));
        }
        let out = child.wait_with_output().expect("ended");
        assert!(
            out.status.success() && out.stdout.is_empty(),
            "{}",
            String::from_utf8_lossy(&out.stderr)
        );
    });
}

#[test]
fn whoever_is_away_for_a_while_has_them_all_the_same() {
    sealed("handing_on::whoever_is_away_for_a_while_has_them_all_the_same", || {
        let world = World::with(POLICY);
        world.enforce();
        let bind = || TcpListener::bind("127.0.0.1:6514");
        let server = world.node("sluice").run(bind).expect("entered").expect("bound");
        drop(server);
        let child =
            world.watch(&["rule", "nuisance", "--count", "500", "--syslog", "tcp:127.0.0.1:6514"]);
        world.say("203.0.113.9", "192.0.2.10:123", 500);
        // Nobody is there yet.
        sleep(Duration::from_secs(1));
        let server = world.node("sluice").run(bind).expect("entered").expect("bound");
        let (mut caller, _) = server.accept().expect("a caller");
        let mut text = String::new();
        caller.read_to_string(&mut text).expect("read");
        let out = child.wait_with_output().expect("ended");
        assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
        // Each message has its length in front.
        let (mut rest, mut count) = (text.as_str(), 0);
        while !rest.is_empty() {
            let (length, behind) = rest.split_once(' ').expect("a length");
            let (message, behind) = behind.split_at(length.parse().expect("a number"));
            assert!(message.starts_with("<37>1 ") && message.ends_with("by nuisance"), "{message}");
            (rest, count) = (behind, count + 1);
        }
        assert_eq!(count, 500);

        // What nobody ever takes is said.
        let child =
            world.watch(&["rule", "nuisance", "--count", "2", "--syslog", "tcp:127.0.0.1:6515"]);
        world.say("203.0.113.9", "192.0.2.10:123", 2);
        let out = child.wait_with_output().expect("ended");
        assert_eq!(out.status.code(), Some(1));
        let said = String::from_utf8_lossy(&out.stderr);
        assert!(said.contains("2 decisions could not be handed on"), "{said}");
        let wrong = world.run(&["watch", "--otlp", "ftp://collector.example"]);
        assert_eq!(wrong.code, 2, "{}", wrong.stderr);
    });
}
