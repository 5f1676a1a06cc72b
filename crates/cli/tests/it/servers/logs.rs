//! A real journal and a real log server have what is handed on to them.

use super::tools::{find, start};
use crate::remembering::World;
use rustix::mount::{MountFlags, mount};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::thread::sleep;
use std::time::{Duration, Instant};
use tipstaff_linux::lab::testing::sealed;

const POLICY: &str = "edition = 1\n\
    [host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\", \"10.44.8.10\"]\n\
    [[host.sluice.rule]]\nname = \"nuisance\"\ndeny = [\"123/udp\"]\n";
const JOURNAL: &str = "/usr/lib/systemd/systemd-journald";

/// The programs, or `None` with a word about it; under CI that is a failure.
fn programs() -> Option<[PathBuf; 2]> {
    let found = [find("journalctl"), find("rsyslogd")];
    if let [Some(reader), Some(server)] = &found
        && Path::new(JOURNAL).exists()
        && rustix::process::geteuid().is_root()
    {
        return Some([reader.clone(), server.clone()]);
    }
    println!("NOT RUN: systemd-journald, journalctl or rsyslogd is missing, or this is not root");
    assert!(std::env::var_os("CI").is_none(), "under CI they must be there: {found:?}");
    None
}

/// Asks until the answer is as it should be.
fn until(what: &str, is: impl Fn() -> bool) {
    let began = Instant::now();
    while !is() {
        assert!(began.elapsed() < Duration::from_secs(20), "{what}");
        sleep(Duration::from_millis(50));
    }
}

#[test]
fn a_real_journal_and_a_real_log_server_have_each_decision() {
    let Some([reader, server]) = programs() else { return };
    sealed("servers::logs::a_real_journal_and_a_real_log_server_have_each_decision", || {
        let world = World::with(POLICY);
        world.enforce();
        let sluice = world.node("sluice");
        for folder in [c"/run", c"/var/log"] {
            mount(c"ours", folder, c"tmpfs", MountFlags::empty(), c"mode=755").expect("mounted");
        }
        fs::create_dir_all("/run/systemd/journal").expect("a folder");
        fs::create_dir_all("/run/log/journal").expect("a folder");
        let _journal = start(sluice, Command::new(JOURNAL));
        let folder = world.desk.folder.path();
        let kept = folder.join("kept");
        let config = format!(
            "module(load=\"imuxsock\" SysSock.Use=\"off\")\n\
             input(type=\"imuxsock\" Socket=\"/run/rs.sock\" UseSpecialParser=\"off\" ParseHostname=\"on\")\n\
             module(load=\"imtcp\") input(type=\"imtcp\" port=\"6514\")\n\
             module(load=\"imudp\") input(type=\"imudp\" port=\"6514\")\n\
             template(name=\"t\" type=\"string\" string=\"%pri-text% %hostname% %app-name% %msgid% \
             %structured-data% %msg%\\n\")\n\
             *.* action(type=\"omfile\" file=\"{}\" template=\"t\")\n",
            kept.display()
        );
        let file = folder.join("rsyslog.conf");
        fs::write(&file, config).expect("written");
        let mut command = Command::new(&server);
        command.arg("-n").arg("-i").arg(folder.join("pid")).arg("-f").arg(&file);
        let _server = start(sluice, command);
        until("they listen", || {
            Path::new("/run/systemd/journal/socket").exists() && Path::new("/run/rs.sock").exists()
        });
        sleep(Duration::from_millis(500));

        for way in ["unix:/run/rs.sock", "udp:127.0.0.1:6514", "tcp:127.0.0.1:6514"] {
            let child =
                world.watch(&["rule", "nuisance", "--count", "5", "--journal", "--syslog", way]);
            world.say("203.0.113.9", "192.0.2.10:123", 5);
            let out = child.wait_with_output().expect("ended");
            assert!(out.status.success(), "{way}: {}", String::from_utf8_lossy(&out.stderr));
        }
        let lines = || fs::read_to_string(&kept).unwrap_or_default();
        until("the log server has all", || lines().lines().count() == 15);
        for line in lines().lines() {
            assert!(
                line.starts_with("auth.notice sluice tipstaff decision [tipstaff@32473 "),
                "{line}"
            );
            assert!(
                line.ends_with("deny inbound 123/udp from 203.0.113.9 to 192.0.2.10 by nuisance"),
                "{line}"
            );
        }
        let entries = || {
            let mut command = Command::new(&reader);
            command.args([
                "-D",
                "/run/log/journal",
                "--no-pager",
                "-o",
                "cat",
                "TIPSTAFF_RULE=nuisance",
            ]);
            let out = command.arg("TIPSTAFF_VERDICT=deny").output().expect("it starts");
            String::from_utf8_lossy(&out.stdout).lines().count()
        };
        until("the journal has all", || entries() == 15);
    });
}
