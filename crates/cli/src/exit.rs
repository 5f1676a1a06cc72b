//! What the exit code says.

use std::process::ExitCode;
use tipstaff_app::Outcome;

/// The process's exit code: 0 all is well; 1 something wrong was found; 2 bad input or usage; 3 the
/// system refused.
pub fn code(outcome: Outcome) -> ExitCode {
    ExitCode::from(match outcome {
        Outcome::Fine => 0,
        Outcome::Found => 1,
        Outcome::Usage => 2,
        Outcome::Refused => 3,
    })
}
