//! Interfaces as rules name them.

use super::table::{Reader, Text};
use super::terms::{Names, is_interface_name};
use super::{Diagnostic, nearest};

/// Reads a list of interfaces: several, or `!` and one, for all others.
pub(super) fn interfaces(reader: &mut Reader<'_>, names: &Names<'_>, list: &[Text]) -> Vec<String> {
    if let (Some(other), true) = (list.iter().find(|it| is_exception(it)), list.len() > 1) {
        let origin = reader.origin(other.inner());
        let message = format!("`{}` stands beside others", other.value.escape_debug());
        reader
            .report(Diagnostic::error("interface-exception", message, origin).expected(
                "all interfaces but one are a list by themselves, such as [\"!tunnel\"]",
            ));
        return Vec::new();
    }
    let one = |term: &Text| match is_exception(term) {
        true => Some(format!("!{}", interface(reader, names, &term.after(1))?)),
        false => interface(reader, names, term),
    };
    list.iter().filter_map(one).collect()
}

fn is_exception(term: &Text) -> bool {
    term.value.starts_with('!')
}

/// Reads one interface, by its role or its name; gives its name.
fn interface(reader: &mut Reader<'_>, names: &Names<'_>, term: &Text) -> Option<String> {
    let found = term.value.as_str();
    let known = names.interfaces.unwrap_or_default();
    if let Some(interface) = known.iter().find(|it| it.role == found || it.name == found) {
        return Some(interface.name.clone());
    }
    // A host that names no roles has to be taken at its word; one that does is held to them.
    if is_interface_name(found) && (names.interfaces.is_none() || known.is_empty()) {
        return Some(found.to_owned());
    }
    let problem = Diagnostic::error(
        "unknown-interface",
        format!("`{}` is no interface of this host", found.escape_debug()),
        reader.origin(term.inner()),
    );
    let words = || known.iter().flat_map(|it| [it.role.as_str(), it.name.as_str()]);
    reader.report(match nearest(found, words()) {
        Some(near) => problem.expected(format!("did you mean `{near}`?")).replace_with(near),
        None if known.is_empty() => {
            problem.expected("a name has 1 to 15 letters, no space, no slash")
        }
        None => problem.expected(format!(
            "the host's `interfaces` are: {}",
            known
                .iter()
                .map(|it| match it.hardware {
                    Some(hardware) => format!("{} ({hardware})", it.role),
                    None => format!("{} ({})", it.role, it.name),
                })
                .collect::<Vec<_>>()
                .join(", ")
        )),
    });
    None
}
