//! The policy that does what the rules of others in the kernel do.

use crate::load::{name_of_this_machine, now};
use crate::{Failure, Loaded, loaded};
use tipstaff_core::adopt::{Adopted, Named, Trouble, taken};
use tipstaff_core::policy::Source;
use tipstaff_linux::Machine;
use tipstaff_linux::foreign::Foreign;

/// What the text of the policy is called where it is spoken of.
const NAMED: &str = "the adopted policy";

/// What others have, and the policy made of it.
pub(crate) struct Made {
    pub foreign: Foreign,
    pub adopted: Adopted,
    /// The policy, read back.
    pub policy: Loaded,
}

/// Makes it, for a host of that name; this machine's if left out.
///
/// # Errors
/// [`Failure`] if the kernel does not let us read, or others have nothing that decides.
pub(crate) fn made(machine: &dyn Machine, host: Option<&str>) -> Result<Made, Failure> {
    let foreign = machine.foreign()?;
    if !foreign.tables.iter().any(|it| it.decides) {
        return Err(nothing(&foreign));
    }
    let itself = name_of_this_machine();
    let host = host.unwrap_or(&itself);
    let named = Named { host, machine: Some(itself.as_str()).filter(|it| *it != host) };
    let adopted = taken(&foreign.held, named, now()).map_err(trouble)?;
    let sources = vec![Source::new(NAMED, &adopted.policy)];
    let policy = loaded(NAMED, sources, Some(host))?;
    Ok(Made { foreign, adopted, policy })
}

/// The policy, and how many rules of others it does not say.
///
/// # Errors
/// As for [`made`].
pub(crate) fn others(
    machine: &dyn Machine,
    host: Option<&str>,
) -> Result<(Loaded, usize), Failure> {
    let Made { foreign, adopted, policy } = made(machine, host)?;
    Ok((policy, adopted.not_taken.len() + foreign.beside.len()))
}

fn nothing(foreign: &Foreign) -> Failure {
    let unread = &foreign.unread;
    let mut help = vec!["`tipstaff draft` writes a first policy from what listens here".to_owned()];
    if !unread.is_empty() {
        help.insert(0, format!("there may be some that cannot be read: {}", unread.join("; ")));
    }
    Failure::stopped("nobody else has rules here that let packets pass or keep them out", help)
}

fn trouble(trouble: Trouble) -> Failure {
    match trouble {
        Trouble::TooMany(many) => Failure::stopped(
            format!(
                "as one list for each direction they would be more than {} rules",
                many.entries
            ),
            vec!["chains that return, or that several lead to, stand there again and again".into()],
        ),
        Trouble::TooComplex => Failure::stopped(
            "what they mean is too much to be compared",
            vec!["that the policy does the same could not be told, so there is none".into()],
        ),
        Trouble::Unreadable(problems) => Failure::Input { sources: Vec::new(), problems },
    }
}
