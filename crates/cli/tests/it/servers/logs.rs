//! A real journal and a real log server have what is handed on to them.

use super::tools::{find, start};
use crate::handing_on::told;
use crate::remembering::World;
use rustix::mount::{MountFlags, mount};
use std::fs;
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
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

/// Likewise, with those that speak TLS: a log server's part for it, a server for the web, and what makes
/// certificates.
fn programs_with_tls() -> Option<[PathBuf; 3]> {
    let [_, server] = programs()?;
    let found = [find("nginx"), find("openssl")];
    let driver = Path::new("/usr/lib");
    let parts = fs::read_dir(driver).into_iter().flatten().flatten();
    let folders = parts.map(|it| it.path()).chain([driver.to_owned()]);
    let there = folders.into_iter().any(|it| it.join("rsyslog/lmnsd_ossl.so").exists());
    if let [Some(web), Some(maker)] = &found
        && there
    {
        return Some([server, web.clone(), maker.clone()]);
    }
    println!("NOT RUN: nginx, openssl or rsyslog-openssl is missing");
    assert!(std::env::var_os("CI").is_none(), "under CI they must be there: {found:?}, {there}");
    None
}

/// A certificate for 127.0.0.1 that nobody else has signed, and its key: files in a folder.
pub(super) fn certificate(maker: &Path, folder: &Path, name: &str) -> [PathBuf; 2] {
    let [certificate, key] = ["crt", "key"].map(|it| folder.join(format!("{name}.{it}")));
    let mut command = Command::new(maker);
    command.args(["req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256"]);
    command.args(["-nodes", "-days", "2", "-subj", "/CN=logs.example"]);
    command.args(["-addext", "subjectAltName=IP:127.0.0.1"]);
    command.args(["-addext", "basicConstraints=critical,CA:FALSE"]);
    command.arg("-keyout").arg(&key).arg("-out").arg(&certificate);
    let out = command.output().expect("it starts");
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    [certificate, key]
}

/// A log server that speaks TLS, and keeps what it is told in the file `kept`.
fn log_server(server: &Path, folder: &Path, [certificate, key]: [&Path; 2]) -> Command {
    let config = format!(
        "global(DefaultNetstreamDriverCAFile=\"{0}\" DefaultNetstreamDriverCertFile=\"{0}\" \
         DefaultNetstreamDriverKeyFile=\"{1}\")\n\
         module(load=\"imtcp\" StreamDriver.Name=\"ossl\" StreamDriver.Mode=\"1\" \
         StreamDriver.AuthMode=\"anon\")\ninput(type=\"imtcp\" port=\"6515\")\n\
         template(name=\"t\" type=\"string\" string=\"%msg%\\n\")\n\
         *.* action(type=\"omfile\" file=\"{2}/kept\" template=\"t\")\n",
        certificate.display(),
        key.display(),
        folder.display()
    );
    let file = folder.join("rsyslog.conf");
    fs::write(&file, config).expect("written");
    let mut command = Command::new(server);
    command.arg("-n").arg("-i").arg(folder.join("pid")).arg("-f").arg(&file);
    command
}

/// A server for the web that speaks TLS, and passes on what it is told.
fn web_server(web: &Path, folder: &Path, [certificate, key]: [&Path; 2]) -> Command {
    let site = folder.join("nginx.conf");
    let config = format!(
        "daemon off; pid {0}/nginx.pid; error_log {0}/error.log; events {{}}\n\
         http {{ access_log off; client_body_temp_path {0}/body; proxy_temp_path {0}/proxy;\n\
         fastcgi_temp_path {0}/f; uwsgi_temp_path {0}/u; scgi_temp_path {0}/s;\n\
         server {{ listen 127.0.0.1:4443 ssl; ssl_certificate {1}; ssl_certificate_key {2};\n\
         location / {{ proxy_pass http://127.0.0.1:4318; }} }} }}\n",
        folder.display(),
        certificate.display(),
        key.display()
    );
    fs::write(&site, config).expect("written");
    let mut command = Command::new(web);
    command.arg("-c").arg(&site).arg("-e").arg(folder.join("error.log"));
    command
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

#[test]
fn servers_are_spoken_to_by_tls_if_they_are_who_they_should_be() {
    let Some([server, web, maker]) = programs_with_tls() else { return };
    sealed("servers::logs::servers_are_spoken_to_by_tls_if_they_are_who_they_should_be", || {
        let world = World::with(POLICY);
        world.enforce();
        let sluice = world.node("sluice");
        let folder = world.desk.folder.path();
        let [ours, key] = certificate(&maker, folder, "ours");
        let [another, _] = certificate(&maker, folder, "another");
        let kept = folder.join("kept");
        let _server = start(sluice, log_server(&server, folder, [&ours, &key]));
        // Who receives logs behind the server for the web speaks no TLS.
        let collector = sluice.run(|| TcpListener::bind("127.0.0.1:4318"));
        let collector = collector.expect("entered").expect("bound");
        let _web = start(sluice, web_server(&web, folder, [&ours, &key]));
        let listens = |port: u16| {
            sluice.run(|| TcpStream::connect(("127.0.0.1", port)).is_ok()).expect("entered")
        };
        until("they listen", || listens(6515) && listens(4443));

        let to = ["--syslog", "tls:127.0.0.1:6515", "--otlp", "https://127.0.0.1:4443"];
        let mut words = vec!["rule", "nuisance", "--count", "5"];
        words.extend(to);
        let child = world.watch_trusting(Some(&ours), &words);
        world.say("203.0.113.9", "192.0.2.10:123", 5);
        let mut records = 0;
        while records < 5 {
            let told = told(&collector);
            let logs = &told["resourceLogs"][0]["scopeLogs"][0]["logRecords"];
            records += logs.as_array().expect("a list").len();
        }
        let out = child.wait_with_output().expect("ended");
        assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
        let lines = || fs::read_to_string(&kept).unwrap_or_default();
        let sentence = "deny inbound 123/udp from 203.0.113.9 to 192.0.2.10 by nuisance";
        let mine = || lines().lines().filter(|it| it.ends_with(sentence)).count();
        until("the log server has all", || mine() == 5);

        // Somebody else, who may well be able to listen.
        for to in to.chunks(2) {
            let mut words = vec!["rule", "nuisance", "--count", "1"];
            words.extend(to);
            let child = world.watch_trusting(Some(&another), &words);
            world.say("203.0.113.9", "192.0.2.10:123", 1);
            let out = child.wait_with_output().expect("ended");
            let said = String::from_utf8_lossy(&out.stderr);
            assert_eq!(out.status.code(), Some(1), "{said}");
            assert!(said.contains("certificate"), "{said}");
        }
        assert_eq!(mine(), 5);
        let child = world
            .desk
            .command(["--host", "sluice", "watch", "--count", "1"].iter().chain(&to[..2]));
        let mut child = child;
        child.env("SSL_CERT_FILE", folder.join("nobody")).stderr(Stdio::piped());
        sluice.start_here(&mut child).expect("it can start there");
        let out = child.output().expect("started");
        let said = String::from_utf8_lossy(&out.stderr);
        assert!(said.contains("no certificates are trusted here"), "{said}");
    });
}
