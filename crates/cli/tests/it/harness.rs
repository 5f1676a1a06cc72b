//! Runs the built program in a folder of its own, with nothing from outside.

use rustix::mount::{MountFlags, UnmountFlags, mount, mount_bind, unmount};
use std::ffi::OsStr;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use tempfile::TempDir;
use tipstaff_linux::lab::Node;
use tipstaff_linux::{NetlinkSocket, Place, Protocol, deliver};
use tipstaff_wire::nf_tables::Batch;

pub const INHERITED: &str = include_str!("../../../../demo/inherited.toml");
pub const MENDED: &str = include_str!("../../../../demo/mended.toml");

/// A folder with a policy in it.
pub struct Desk {
    pub folder: TempDir,
    state: TempDir,
}

/// What a run gave.
#[derive(Debug)]
pub struct Outcome {
    pub code: i32,
    pub stdout: String,
    pub stderr: String,
}

impl Outcome {
    /// Expects an exit code, and shows everything if it was another.
    #[track_caller]
    pub fn exits(self, code: i32) -> Self {
        assert_eq!(self.code, code, "stdout:\n{}\nstderr:\n{}", self.stdout, self.stderr);
        self
    }

    #[track_caller]
    pub fn json(&self) -> serde_json::Value {
        serde_json::from_str(&self.stdout)
            .unwrap_or_else(|error| panic!("{error}\n{}\n{}", self.stdout, self.stderr))
    }
}

impl Desk {
    /// A folder with this text as `policy.toml`.
    pub fn with(policy: impl AsRef<[u8]>) -> Self {
        let folder = tempfile::tempdir().expect("a folder");
        let desk = Self { folder, state: tempfile::tempdir().expect("a folder") };
        desk.write(policy);
        desk
    }

    pub fn write(&self, policy: impl AsRef<[u8]>) {
        let file = self.folder.path().join("policy.toml");
        fs::write(&file, policy).expect("written");
        fs::set_permissions(&file, fs::Permissions::from_mode(0o644)).expect("a mode");
    }

    /// The policy's text.
    pub fn text(&self) -> String {
        fs::read_to_string(self.path().join("policy.toml")).expect("it is there")
    }

    pub fn path(&self) -> &Path {
        self.folder.path()
    }

    /// Where the docket is kept: beside the policy's folder, so that it is never taken for a part
    /// of it.
    pub fn state(&self) -> PathBuf {
        self.state.path().join("state")
    }

    /// Where the docket of this process's namespace is, or of a machine of a lab.
    pub fn kept(&self) -> PathBuf {
        let Place::Unnamed(number) = Place::current() else { panic!("sealed tests have no name") };
        let boot = fs::read_to_string("/proc/sys/kernel/random/boot_id").expect("a name");
        self.state().join("namespaces").join(format!("{}.{number}", boot.trim()))
    }

    /// Where the docket of a namespace with a name is.
    pub fn kept_by(&self, name: &str) -> PathBuf {
        self.state().join("namespaces").join(name)
    }

    /// The note for the boot of a namespace with a name.
    pub fn note_of(&self, name: &str) -> PathBuf {
        self.state.path().join(format!("boot-note.{name}.json"))
    }

    /// The note for the boot.
    pub fn note(&self) -> PathBuf {
        self.state.path().join("boot-note.json")
    }

    /// The program, ready to run on the policy.
    pub fn command<A: AsRef<OsStr>>(&self, args: impl IntoIterator<Item = A>) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_tipstaff"));
        command
            .args(args)
            .env_clear()
            .env("TIPSTAFF_POLICY", "policy.toml")
            .env("TIPSTAFF_STATE", self.state())
            .env("TIPSTAFF_BOOT_NOTE", self.note())
            .env("COLUMNS", "100")
            .current_dir(self.path())
            .stdin(Stdio::null());
        command
    }

    pub fn run<A: AsRef<OsStr>>(&self, args: impl IntoIterator<Item = A>) -> Outcome {
        finish(self.command(args))
    }

    /// Runs the program on a machine of a lab.
    pub fn on<A: AsRef<OsStr>>(&self, node: &Node, args: impl IntoIterator<Item = A>) -> Outcome {
        let mut command = self.command(args);
        node.start_here(&mut command).expect("it can start there");
        finish(command)
    }
}

/// Runs a command to its end.
pub fn finish(mut command: Command) -> Outcome {
    let output = command.output().expect("the program starts");
    Outcome {
        code: output.status.code().unwrap_or(-1),
        stdout: String::from_utf8_lossy(&output.stdout).into_owned(),
        stderr: String::from_utf8_lossy(&output.stderr).into_owned(),
    }
}

/// Gives a machine of a lab the name by which its docket is found, and takes it from the one that
/// had it: what a reboot is to the docket. Only in a sealed process, which has its own mounts.
pub fn named(name: &str, node: &Node) {
    let folder = Path::new("/run/netns");
    // Nothing is written where the machine keeps its own names.
    let ours = folder.join("ours");
    if !ours.exists() {
        let over = if folder.exists() { c"/run/netns" } else { c"/run" };
        mount(c"names", over, c"tmpfs", MountFlags::empty(), c"mode=755").expect("mounted");
        fs::create_dir_all(folder).expect("a folder");
        fs::write(&ours, "").expect("a file");
    }
    let file = folder.join(name);
    let _ = unmount(&file, UnmountFlags::DETACH);
    fs::write(&file, "").expect("a file");
    mount_bind(node.namespace().file(), &file).expect("named");
}

/// Gives the kernel a batch of somebody else's, and expects it to take that.
pub fn give(batch: Batch) {
    let mut socket = NetlinkSocket::open(Protocol::Netfilter).expect("a socket");
    let refused = deliver(&mut socket, "try", &batch.finish().expect("fits"));
    assert_eq!(refused.expect("answered"), []);
}
