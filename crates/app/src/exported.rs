//! `export`: a policy in the forms of others.

use crate::lists_in_xml::{as_json, as_xml, is_xml};
use crate::vocabulary as say;
use crate::{Failure, Loaded};
use serde::Serialize;
use serde_json::Value;
use std::path::Path;
use tipstaff_core::acl::{self, Document, Taken};
use tipstaff_core::space::Direction;

/// A policy as access control lists.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The host whose policy it is.
    pub host: String,
    /// How many entries the lists have.
    pub entries: usize,
    /// The lists, as RFC 8519 models them.
    pub document: Value,
    /// The same in XML; `null`: it was not asked for.
    pub xml: Option<String>,
    /// What of the policy they do not say.
    pub losses: Vec<Loss>,
}

/// What lists do not say of a decision.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Loss {
    /// `inbound`, `outbound` or `forwarded`.
    pub direction: say::Direction,
    /// The decision's name.
    pub name: String,
    /// What it says that they cannot.
    pub what: Vec<&'static str>,
    /// Whether it is left out for that; else it is there without it, and keeps out more.
    pub left_out: bool,
}

/// Writes the host's rules and defaults as access control lists.
///
/// # Errors
/// [`Failure`] if that would be too many entries.
pub fn to_lists(loaded: &Loaded, in_xml: bool) -> Result<Report, Failure> {
    let exported = acl::export(&loaded.plan).ok_or_else(|| {
        Failure::usage(
            "as access control lists it would be more than 200,000 entries",
            "each pair of networks and each port is an entry of its own",
        )
    })?;
    let document = serde_json::to_value(&exported.document)
        .map_err(|error| Failure::stopped(format!("they have no form: {error}"), Vec::new()))?;
    let loss = |it: acl::Loss| Loss {
        direction: it.direction.into(),
        name: it.name,
        what: it.what,
        left_out: it.left_out,
    };
    Ok(Report {
        host: loaded.plan.host.clone(),
        entries: exported.entries,
        xml: in_xml.then(|| as_xml(&document)),
        document,
        losses: exported.losses.into_iter().map(loss).collect(),
    })
}

/// What a host is called of which nobody says its name.
pub const NOBODY: &str = "this-host";

/// A policy made of lists.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Adopted {
    /// The text of the policy, ready to be saved.
    pub policy: String,
    /// How many entries of the lists it says.
    pub entries: usize,
    /// The entries that it does not say.
    pub not_taken: Vec<NotTaken>,
    /// The lists that end without saying what becomes of everything else: the policy denies it.
    pub open_ended: Vec<String>,
}

/// An entry that the policy does not say.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct NotTaken {
    /// The list; empty for what is beside all lists.
    pub list: String,
    /// The entry.
    pub entry: String,
    /// Why, as the rest of a sentence.
    pub why: String,
    /// Whether it keeps something out that the policy may let in without it.
    pub keeps_out: bool,
}

/// The text of a file, or of standard input for `-`.
///
/// # Errors
/// [`Failure`] if it cannot be read as text.
pub fn file(path: &Path) -> Result<String, Failure> {
    let read = match path.to_str() {
        Some("-") => std::io::read_to_string(std::io::stdin()),
        _ => std::fs::read_to_string(path),
    };
    read.map_err(|error| {
        let message = format!("cannot read {}: {error}", path.display().to_string().escape_debug());
        Failure::usage(message, "name a file of text, or `-` for standard input")
    })
}

/// A policy that says what lists do.
///
/// # Errors
/// [`Failure`] if the text is no such document.
pub fn from_lists(
    name: &str,
    text: &str,
    host: &str,
    direction: Direction,
) -> Result<Adopted, Failure> {
    let document: Result<Document, String> = if is_xml(text) {
        as_json(text).and_then(|it| serde_json::from_value(it).map_err(|error| error.to_string()))
    } else {
        serde_json::from_str(text).map_err(|error| error.to_string())
    };
    let document = document.map_err(|error| {
        let error = error.escape_debug();
        Failure::usage(
            format!("{}: no access control lists: {error}", name.escape_debug()),
            "expected JSON as RFC 7951 has it, with `ietf-access-control-list:acls` (RFC 8519), or \
             the same in XML",
        )
    })?;
    let several = |it: acl::Several| {
        Failure::usage(
            format!(
                "{}: several lists are about {} packets of {}: {}",
                name.escape_debug(),
                it.direction,
                it.family,
                it.lists.join(", ").escape_debug()
            ),
            "each holds somewhere else, or none does: give a file with one for each direction and IP version",
        )
    };
    let found = acl::taken(&document, host, direction).map_err(several)?;
    let Taken { policy, entries, not_taken, open_ended } = found;
    if entries == 0 && not_taken.is_empty() {
        return Err(Failure::usage(
            format!("{}: there are no entries in it", name.escape_debug()),
            "a policy that says nothing would keep everything out",
        ));
    }
    let not = |it: acl::NotTaken| NotTaken {
        list: it.list,
        entry: it.entry,
        why: it.why,
        keeps_out: it.keeps_out,
    };
    Ok(Adopted { policy, entries, not_taken: not_taken.into_iter().map(not).collect(), open_ended })
}
