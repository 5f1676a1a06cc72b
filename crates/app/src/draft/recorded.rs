//! Who came, as long as it is remembered.

use super::super::Failure;
use jiff::Timestamp;
use tipstaff_core::draft::Contact;
use tipstaff_core::plan::Kind;
use tipstaff_core::space::Direction;
use tipstaff_linux::Machine;
use tipstaff_linux::ruleset::{Began, Caller, Wanted, Who};
use tipstaff_linux::sockets::PortProtocol;

/// Who came to this machine, as far as that is remembered.
#[derive(Default)]
pub(super) struct Came {
    /// Who came, for what.
    pub contacts: Vec<Contact>,
    /// For so many seconds it is remembered.
    pub seconds: u64,
    /// What could not be seen, in words.
    pub unseen: Vec<String>,
}

/// Looks at the record.
///
/// # Errors
/// [`Failure`] if nothing is remembered of who was admitted.
pub(super) fn recorded(machine: &dyn Machine) -> Result<Came, Failure> {
    let remembered = machine.callers()?.filter(|it| it.admitted);
    let Some(remembered) = remembered else {
        return Err(Failure::stopped(
            "it is not remembered who was admitted",
            vec![
                "enforce a policy that allows everything, with `record = \"all\"` in the host's section; \
                 then ask again after a week"
                    .into(),
            ],
        ));
    };
    let mut unseen = Vec::new();
    if remembered.no_room > 0 {
        unseen.push(format!("{} packets that found no room in the record", remembered.no_room));
    }
    let default =
        |it: &&Began| it.rule.direction == Direction::Inbound && it.rule.id.kind == Kind::Default;
    let open = remembered.begun.iter().find(default);
    if open.is_none() {
        unseen.push("whoever the rules in force turn away (default/inbound does not allow)".into());
    }
    let inbound = remembered.begun.iter().filter(|it| it.rule.direction == Direction::Inbound);
    let since = open.or_else(|| inbound.min_by_key(|it| it.since)).map(|it| it.since);
    let now = u64::try_from(Timestamp::now().as_second()).unwrap_or_default();
    let seconds = since.map_or(0, |it| now.saturating_sub(it)).min(remembered.keeps.into());
    let one = |it: &Caller| {
        let (Who::Address(peer), Wanted::Port(protocol, port)) = (it.who, it.wanted) else {
            return None;
        };
        let protocol = PortProtocol::of_number(protocol)?;
        (it.admitted && it.direction == Direction::Inbound).then_some(Contact {
            protocol,
            port,
            peer,
        })
    };
    let contacts = remembered.list.iter().filter_map(one).collect();
    let several = remembered.list.iter().filter(|it| it.admitted && it.wanted == Wanted::Several);
    match several.count() {
        0 => {}
        count => unseen
            .push(format!("what {count} senders wanted who had more entries than are kept apart")),
    }
    Ok(Came { contacts, seconds, unseen })
}
