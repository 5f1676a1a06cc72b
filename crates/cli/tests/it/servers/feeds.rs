//! Files of places that a real server for the web has.

use super::logs::certificate;
use super::tools::{Server, find, start};
use crate::harness::Desk;
use crate::remembering::World;
use std::fs;
use std::net::TcpStream;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::thread::sleep;
use std::time::{Duration, Instant};
use tipstaff_linux::lab::testing::sealed;

const POLICY: &str = "edition = 1\n\
    [place.street]\nfile = \"https://127.0.0.1:4443/street.txt\"\n\
    [host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\", \"10.44.8.10\"]\n\
    [[host.sluice.rule]]\nname = \"not-them\"\ndeny = [\"any\"]\nfrom = [\"street\"]\n";

/// The programs, or `None` with a word about it; under CI that is a failure.
fn programs() -> Option<[PathBuf; 2]> {
    let found = [find("nginx"), find("openssl")];
    if let [Some(web), Some(maker)] = &found {
        return Some([web.clone(), maker.clone()]);
    }
    println!("NOT RUN: nginx or openssl is missing");
    assert!(std::env::var_os("CI").is_none(), "under CI they must be there: {found:?}");
    None
}

/// A server for the web with files of a folder, some of them told in ways that nobody should fall for.
fn web(world: &World, web: &Path, folder: &Path, [certificate, key]: [&Path; 2]) -> Server {
    let shown = folder.display();
    let config = format!(
        "user root root; daemon off; master_process off; pid {shown}/nginx.pid; error_log {shown}/error.log;\n\
         events {{}}\n\
         http {{ log_format seen '$status $request_uri $bytes_sent'; access_log {shown}/seen seen;\n\
         client_body_temp_path {shown}/b; proxy_temp_path {shown}/p; fastcgi_temp_path {shown}/f;\n\
         uwsgi_temp_path {shown}/u; scgi_temp_path {shown}/s; root {shown}/files;\n\
         server {{ listen 127.0.0.1:4443 ssl; ssl_certificate {}; ssl_certificate_key {};\n\
         location /elsewhere {{ return 302 https://127.0.0.1:4443/street.txt; }}\n\
         location /plain {{ return 302 http://127.0.0.1:8080/street.txt; }}\n\
         location /round {{ return 302 https://127.0.0.1:4443/round; }}\n\
         location /packed {{ add_header content-encoding gzip; try_files /street.txt =404; }}\n\
         location /slow {{ limit_rate 1k; try_files /large.txt =404; }} }}\n\
         server {{ listen 127.0.0.1:8080; }} }}\n",
        certificate.display(),
        key.display()
    );
    let file = folder.join("nginx.conf");
    fs::write(&file, config).expect("written");
    let mut command = Command::new(web);
    command.arg("-c").arg(&file).arg("-p").arg(folder).arg("-e").arg(folder.join("error.log"));
    let server = start(world.node("sluice"), command);
    let began = Instant::now();
    let listens = || TcpStream::connect("127.0.0.1:4443").is_ok();
    while !world.node("sluice").run(listens).expect("entered") {
        assert!(began.elapsed() < Duration::from_secs(60), "it does not listen");
        sleep(Duration::from_millis(50));
    }
    server
}

fn refresh(world: &World, trusting: &Path) -> Command {
    let mut command =
        world.desk.command(["--host", "sluice", "place", "refresh", "--format", "json"]);
    command.env("SSL_CERT_FILE", trusting).stdout(Stdio::piped()).stderr(Stdio::piped());
    world.node("sluice").start_here(&mut command).expect("it can start there");
    command
}

/// What became of the only place, and why.
fn refreshed(world: &World, trusting: &Path) -> (String, String) {
    let out = refresh(world, trusting).output().expect("it starts");
    let told: serde_json::Value = serde_json::from_slice(&out.stdout).expect("a report");
    let place = &told["places"][0];
    (place["done"].as_str().expect("a word").to_owned(), place["why"].to_string())
}

impl Desk {
    fn from(&self, address: &str) {
        self.write(POLICY.replace("https://127.0.0.1:4443/street.txt", address));
    }
}

#[test]
fn files_come_from_servers_that_prove_who_they_are() {
    let Some([server, maker]) = programs() else { return };
    sealed("servers::feeds::files_come_from_servers_that_prove_who_they_are", || {
        let world = World::with(POLICY);
        let folder = tempfile::tempdir().expect("a folder");
        let folder = folder.path();
        fs::set_permissions(folder, fs::Permissions::from_mode(0o755)).expect("a mode");
        let files = folder.join("files");
        fs::create_dir(&files).expect("a folder");
        let [ours, key] = certificate(&maker, folder, "ours");
        let [another, _] = certificate(&maker, folder, "another");
        let _web = web(&world, &server, folder, [&ours, &key]);
        let list = |text: &str| fs::write(files.join("street.txt"), text).expect("written");
        let seen = || fs::read_to_string(folder.join("seen")).unwrap_or_default();
        let done = |word: &str| (word.to_owned(), "[]".to_owned());

        list("203.0.113.0/24\n");
        let (refused, why) = refreshed(&world, &another);
        assert!(refused == "refused" && why.contains("certificate"), "{why}");
        assert_eq!(refreshed(&world, &ours), done("new"));
        // What has not changed is not sent again.
        assert_eq!(refreshed(&world, &ours), done("same"));
        assert!(seen().lines().last().expect("seen").starts_with("304 "), "{}", seen());
        sleep(Duration::from_millis(1_100));
        list("203.0.113.0/24\n2001:db8:bad::/48\n");
        assert_eq!(refreshed(&world, &ours), done("changed"));
        let kept = world.desk.snapshot("street").expect("kept");

        let refuses = |address: &str, reason: &str| {
            world.desk.from(address);
            let (refused, why) = refreshed(&world, &ours);
            assert!(refused == "refused" && why.contains(reason), "{address}: {why}");
            assert_eq!(world.desk.snapshot("street").as_ref(), Some(&kept), "{address}");
        };
        refuses("https://127.0.0.1:4443/missing.txt", "the server answers 404");
        refuses("https://127.0.0.1:4443/plain", "cannot be fetched");
        refuses("https://127.0.0.1:4443/round", "cannot be fetched");
        refuses("https://127.0.0.1:4443/packed", "packed, though asked not to");
        refuses("https://127.0.0.1:4444/street.txt", "cannot be fetched");
        let large = fs::File::create(files.join("large.txt")).expect("made");
        large.set_len(70 * 1024 * 1024).expect("long");
        refuses("https://127.0.0.1:4443/large.txt", "larger than 64 MiB");
        list("<html>Log in</html>\n");
        refuses("https://127.0.0.1:4443/street.txt", "is no address");
        assert!(!seen().contains("8080"), "{}", seen());
        list("203.0.113.0/25\n");
        world.desk.from("https://127.0.0.1:4443/elsewhere");
        assert_eq!(refreshed(&world, &ours), done("new"));
        let told = world.run(&["place", "list"]).exits(0).stdout;
        assert!(told.contains("https://127.0.0.1:4443/elsewhere"), "{told}");
        world.desk.from("http://127.0.0.1:8080/street.txt");
        let told = world.run(&["show"]).exits(2).stderr;
        assert!(told.contains("only https will do"), "{told}");
    });
}

/// Whoever speaks with a server has nothing to lose, and does not stay.
#[test]
fn whoever_speaks_with_a_server_has_no_privileges() {
    let Some([server, maker]) = programs() else { return };
    sealed("servers::feeds::whoever_speaks_with_a_server_has_no_privileges", || {
        let world = World::with(&POLICY.replace("street.txt", "slow"));
        let folder = tempfile::tempdir().expect("a folder");
        let folder = folder.path();
        fs::create_dir(folder.join("files")).expect("a folder");
        fs::write(folder.join("files/large.txt"), "203.0.113.0/24\n".repeat(60_000))
            .expect("written");
        let [ours, key] = certificate(&maker, folder, "ours");
        let _web = web(&world, &server, folder, [&ours, &key]);
        let mut child = refresh(&world, &ours).spawn().expect("it starts");
        let fetcher = || {
            let children = format!("/proc/{0}/task/{0}/children", child.id());
            let pid = fs::read_to_string(children).ok()?.split_whitespace().next()?.to_owned();
            let status = fs::read_to_string(format!("/proc/{pid}/status")).ok()?;
            status.contains("NoNewPrivs:\t1").then_some((pid, status))
        };
        let began = Instant::now();
        let (pid, status) = loop {
            if let Some(found) = fetcher() {
                break found;
            }
            assert!(began.elapsed() < Duration::from_secs(60), "nobody speaks with it");
            sleep(Duration::from_millis(5));
        };
        sleep(Duration::from_millis(50));
        let status = fs::read_to_string(format!("/proc/{pid}/status")).unwrap_or(status);
        for none in ["CapEff:", "CapPrm:", "CapInh:"] {
            let line = status.lines().find(|it| it.starts_with(none)).expect("it");
            assert!(line.ends_with("0000000000000000"), "{line}");
        }
        // Killed with what asked for it, nothing is kept, and nobody is left.
        child.kill().expect("killed");
        child.wait().expect("ended");
        assert_eq!(world.desk.snapshot("street"), None);
        let began = Instant::now();
        while Path::new(&format!("/proc/{pid}")).exists() {
            assert!(began.elapsed() < Duration::from_secs(5), "it stays");
            sleep(Duration::from_millis(50));
        }
    });
}

/// Two places take the same file, and know different versions of it: what is the same as one knows is not taken for the
/// same as the other does.
#[test]
fn each_place_knows_what_it_read_itself() {
    let Some([server, maker]) = programs() else { return };
    sealed("servers::feeds::each_place_knows_what_it_read_itself", || {
        let street = "file = \"https://127.0.0.1:4443/street.txt\"\n";
        let text = POLICY.replace(street, &format!("{street}[place.alley]\n{street}"));
        let world = World::with(&text.replace("from = [", "from = [\"alley\", "));
        let folder = tempfile::tempdir().expect("a folder");
        let folder = folder.path();
        fs::create_dir(folder.join("files")).expect("a folder");
        let [ours, key] = certificate(&maker, folder, "ours");
        let _web = web(&world, &server, folder, [&ours, &key]);
        let list = |text: &str| fs::write(folder.join("files/street.txt"), text).expect("written");
        let refreshed = |names: &[&str]| {
            let mut command = refresh(&world, &ours);
            let out = command.args(names).output().expect("it starts");
            let told: serde_json::Value = serde_json::from_slice(&out.stdout).expect("a report");
            let places = told["places"].as_array().expect("a list").clone();
            places
                .iter()
                .map(|it| it["done"].as_str().expect("a word").to_owned())
                .collect::<Vec<_>>()
        };
        list("203.0.113.0/24\n");
        assert_eq!(refreshed(&[]), ["new", "new"]);
        sleep(Duration::from_millis(1_100));
        list("203.0.113.0/25\n");
        assert_eq!(refreshed(&["street"]), ["changed"]);
        // In either order.
        assert_eq!(refreshed(&["street", "alley", "street"]), ["same", "changed"]);
        assert_eq!(refreshed(&[]), ["same", "same"]);
    });
}
