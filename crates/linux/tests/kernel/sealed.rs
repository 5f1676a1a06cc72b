//! Runs a test in a process of its own, sealed off from the machine's network.

use std::process::Command;

const INSIDE: &str = "TIPSTAFF_TEST_INSIDE";

/// Runs `body` in a sealed process. `name` is the test's own path, as Cargo prints it: the test
/// binary is started anew with just this test.
pub fn sealed(name: &str, body: impl FnOnce()) {
    if std::env::var_os(INSIDE).is_some() {
        body();
        return;
    }
    let program = std::env::current_exe().expect("the test binary has a path");
    let mut command = Command::new(program);
    command.args([name, "--exact", "--nocapture", "--test-threads=1"]).env(INSIDE, "1");
    tipstaff_linux::lab::seal(&mut command);
    let output = command.output().unwrap_or_else(|error| {
        panic!(
            "this system lets us make no network namespaces ({error}): run the tests as root, \
             or allow unprivileged user namespaces"
        )
    });
    let text = String::from_utf8_lossy(&output.stdout);
    print!("{text}");
    eprint!("{}", String::from_utf8_lossy(&output.stderr));
    assert!(output.status.success(), "the sealed part of {name} failed");
    // A wrong name would match no test and pass for that reason.
    assert!(text.contains("1 passed"), "no test ran under the name {name}");
}
