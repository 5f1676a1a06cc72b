//! What goes wrong around a fleet: clocks, disks, and the network in two.

use super::world::World;
use crate::servers::needed;
use rustix::mount::{MountFlags, mount};
use std::fs::{self, OpenOptions};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// Something that is loaded ahead of a program and has its clock off by an hour: what it asks the kernel by `clock_gettime`.
pub fn clock_off(folder: &Path, seconds: i64) -> PathBuf {
    let call = if cfg!(target_arch = "aarch64") { 113 } else { 228 };
    let source = format!(
        "struct timespec {{ long seconds, nanoseconds; }};\n\
         extern long syscall(long, ...);\n\
         int clock_gettime(int clock, struct timespec *at) {{\n\
             long done = syscall({call}, clock, at);\n\
             if (!done && clock == 0) at->seconds += {seconds};\n\
             return done;\n}}\n"
    );
    let (file, made) =
        (folder.join(format!("off{seconds}.c")), folder.join(format!("off{seconds}.so")));
    fs::write(&file, source).expect("written");
    let compiler = needed("cc").expect("a C compiler, as building needs its linker");
    let mut command = Command::new(compiler);
    command.args(["-shared", "-fPIC", "-w", "-o"]).arg(&made).arg(&file);
    assert!(command.status().expect("it runs").success(), "no clock");
    made
}

/// A disk of its own for a member of the store.
pub fn disk(folder: &Path) {
    fs::create_dir_all(folder).expect("a folder");
    mount(c"store", folder, c"tmpfs", MountFlags::empty(), c"size=160m,mode=700").expect("mounted");
}

/// Fills a disk up.
pub fn fill(folder: &Path) {
    let mut file = OpenOptions::new().create(true).append(true).open(folder.join("fill"));
    let chunk = vec![0; 1 << 16];
    if let Ok(file) = &mut file {
        while file.write_all(&chunk).is_ok() {}
    }
}

/// Some room again.
pub fn empty(folder: &Path) {
    let _ = fs::remove_file(folder.join("fill"));
}

/// Cuts the network in two: those of one half speak to those of the other as to nobody; or mends it.
pub fn cut(world: &World, halves: [&[(String, String)]; 2], off: bool) {
    for (own, others) in [(halves[0], halves[1]), (halves[1], halves[0])] {
        let line = |it: &(String, String)| match off {
            true => {
                format!("neigh replace {} lladdr 02:00:00:00:00:99 dev eth0 nud permanent\n", it.1)
            }
            false => format!("neigh del {} dev eth0\n", it.1),
        };
        let lines: String = others.iter().map(line).collect();
        for (name, _) in own {
            let mut command = Command::new(needed("ip").expect("ip, to cut the network"));
            command
                .args(["-force", "-batch", "-"])
                .stdin(Stdio::piped())
                .stdout(Stdio::null())
                .stderr(Stdio::null());
            world.node(name).start_here(&mut command).expect("it can start there");
            let mut child = command.spawn().expect("it starts");
            child.stdin.take().expect("piped").write_all(lines.as_bytes()).expect("told");
            let _ = child.wait();
        }
    }
}
