//! What the exit code says.

use std::process::ExitCode;

/// How a command ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Exit {
    /// 0: all is well.
    Fine,
    /// 1: the command did its work, and found something wrong.
    Found,
    /// 2: bad input or usage; nothing was done.
    Usage,
    /// 3: the system refused; nothing was done.
    Refused,
}

/// The process's exit code.
pub fn code(exit: Exit) -> ExitCode {
    ExitCode::from(match exit {
        Exit::Fine => 0,
        Exit::Found => 1,
        Exit::Usage => 2,
        Exit::Refused => 3,
    })
}
