//! Servers and clients of others.

use std::fs;
use std::net::{Ipv4Addr, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};
use tipstaff_linux::lab::Node;

/// Where programs are; servers are not on an ordinary user's path.
pub const FOLDERS: [&str; 4] = ["/usr/sbin", "/usr/bin", "/sbin", "/bin"];

pub fn find(program: &str) -> Option<PathBuf> {
    FOLDERS.iter().map(|it| Path::new(it).join(program)).find(|it| it.exists())
}

/// A program, or `None` with a word about it if it is missing; under CI that is a failure.
pub fn needed(program: &str) -> Option<PathBuf> {
    let found = find(program);
    if found.is_none() {
        println!("NOT RUN: {program} is missing");
        assert!(std::env::var_os("CI").is_none(), "that would be a check that did not happen");
    }
    found
}

/// The programs, or `None` with a word about it if one is missing; under CI that is a failure.
pub fn tools() -> Option<[PathBuf; 6]> {
    let names = ["sshd", "ssh", "ssh-keygen", "nginx", "curl", "ping"];
    let found = names.map(find);
    let missing: Vec<&str> =
        names.into_iter().zip(&found).filter(|it| it.1.is_none()).map(|it| it.0).collect();
    if missing.is_empty() {
        return Some(found.map(|it| it.expect("none is missing")));
    }
    println!("NOT RUN: these programs are missing: {}", missing.join(", "));
    assert!(std::env::var_os("CI").is_none(), "under CI they must be there: {missing:?}");
    None
}

/// Likewise, if one can log in by OpenSSH here.
pub fn tools_to_log_in() -> Option<[PathBuf; 6]> {
    if rustix::process::geteuid().is_root() {
        return tools();
    }
    println!("NOT RUN: logging in by OpenSSH needs a root who may change users");
    assert!(std::env::var_os("CI").is_none(), "under CI this must run");
    None
}

/// A server that ends with the test.
pub struct Server(pub Child);

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

pub fn start(node: &Node, mut command: Command) -> Server {
    node.start_here(&mut command).expect("it can start there");
    let command = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    Server(command.spawn().expect("it starts"))
}

/// Starts it and waits until it listens at a port.
pub fn start_at(node: &Node, command: Command, port: u16) -> Server {
    let server = start(node, command);
    let begun = Instant::now();
    let answers = || TcpStream::connect((Ipv4Addr::LOCALHOST, port)).is_ok();
    while !node.run(answers).expect("run") {
        assert!(begun.elapsed() < Duration::from_secs(60), "nobody listens at {port}");
        std::thread::sleep(Duration::from_millis(20));
    }
    server
}

pub fn output(node: &Node, program: &Path, args: &[&str]) -> Output {
    let mut command = Command::new(program);
    command.args(args).env("LC_ALL", "C").stdin(Stdio::null());
    node.start_here(&mut command).expect("it can start there");
    command.output().expect("it starts")
}

pub fn nginx(node: &Node, program: &Path, folder: &Path) -> Server {
    let shown = folder.display();
    let config = format!(
        "user root root; daemon off; master_process off; pid {shown}/nginx.pid; error_log {shown}/error.log;\n\
         events {{}}\n\
         http {{ access_log off; client_body_temp_path {shown}/b; proxy_temp_path {shown}/p;\n\
         fastcgi_temp_path {shown}/f; uwsgi_temp_path {shown}/u; scgi_temp_path {shown}/s;\n\
         server {{ listen [::]:80 ipv6only=off; listen [::]:8080 ipv6only=off;\n\
         listen [::]:9100 ipv6only=off; return 200 'seeds\\n'; }} }}\n"
    );
    fs::create_dir_all(folder).expect("a folder");
    let file = folder.join("nginx.conf");
    fs::write(&file, config).expect("written");
    let mut command = Command::new(program);
    command.arg("-c").arg(&file).arg("-p").arg(folder);
    start_at(node, command, 80)
}

pub fn sshd(node: &Node, program: &Path, keygen: &Path, folder: &Path) -> Server {
    make_key(keygen, folder);
    start_sshd(node, program, folder)
}

/// Makes the key by which a remote shell is known, and that lets in who has it.
pub fn make_key(keygen: &Path, folder: &Path) {
    let key = folder.join("host_key");
    let made = Command::new(keygen)
        .args(["-q", "-t", "ed25519", "-N", "", "-f"])
        .arg(&key)
        .status()
        .expect("it starts");
    assert!(made.success());
    // The folder that sshd wants to have; only this sealed process sees it.
    rustix::mount::mount(
        c"run",
        c"/run",
        c"tmpfs",
        rustix::mount::MountFlags::empty(),
        c"mode=755",
    )
    .expect("a file system over /run");
    fs::create_dir("/run/sshd").expect("a folder");
}

/// Starts a remote shell at 2202, with the key of [`make_key`].
pub fn start_sshd(node: &Node, program: &Path, folder: &Path) -> Server {
    let key = folder.join("host_key");
    let mut command = Command::new(program);
    command
        .args(["-D", "-e", "-p", "2202", "-f", "/dev/null", "-o", "PidFile=none"])
        // The host's own key also lets in who has it.
        .args(["-o", "StrictModes=no", "-o", "UsePAM=no", "-o"])
        .arg(format!("AuthorizedKeysFile={}.pub", key.display()))
        .arg("-h")
        .arg(&key);
    start_at(node, command, 2202)
}

/// What curl meets: its exit code, and how long it took.
pub fn curl(
    node: &Node,
    program: &Path,
    from: &str,
    to: &str,
    port: u16,
) -> (Option<i32>, Duration) {
    let host = if to.contains(':') { format!("[{to}]") } else { to.to_owned() };
    let url = format!("http://{host}:{port}/");
    let begun = Instant::now();
    let args = [
        "-sS",
        "--noproxy",
        "*",
        "-o",
        "/dev/null",
        "--interface",
        from,
        "--connect-timeout",
        "1",
        &url,
    ];
    let output = output(node, program, &args);
    (output.status.code(), begun.elapsed())
}
