//! What the files of a place say now, held against what they said before.

use super::gather::Gathered;
use super::said::Said;
use super::wish::Wish;
use hmac_sha256::Hash;
use tipstaff_core::policy::feed::{self, Refused, doubts};
use tipstaff_core::policy::{Data, Held, Snapshot, Time};
use tipstaff_core::space::{AddressSet, Family};

/// What came of reading the files of a place.
pub(super) enum Outcome {
    /// They say something else than before, or were never read.
    New(Snapshot),
    /// They say what they said.
    Same(Snapshot),
    /// What they say is not taken, for these reasons, each a sentence.
    Refused(Vec<String>),
}

/// Reads the files of a place; `before` is what they said last.
pub(super) fn read(
    (name, data): (&str, &Data),
    before: Option<Snapshot>,
    gathered: &mut Gathered,
    (wish, now): (&Wish<'_>, Time),
) -> Outcome {
    let (addresses, digest, held) = match said(data, before.as_ref(), gathered, wish) {
        Ok(Some(found)) => found,
        Ok(None) => {
            // Only what was read before can be the same.
            return match before {
                Some(before) => Outcome::Same(before),
                None => Outcome::Refused(vec!["a server says that nothing has changed".into()]),
            };
        }
        Err(why) => return Outcome::Refused(why),
    };
    if let Some(before) = before.as_ref().filter(|it| it.addresses == addresses) {
        return Outcome::Same(before.clone());
    }
    let old = before.as_ref().map(|it| &it.addresses);
    let doubts: Vec<String> = doubts(old, &addresses)
        .iter()
        .filter(|it| !wish.means(it))
        .map(|it| match it.word() {
            Some(word) => format!("{}; --although {word} takes it all the same", sentence(it)),
            None => sentence(it),
        })
        .collect();
    if !doubts.is_empty() {
        return Outcome::Refused(doubts);
    }
    let new = Snapshot {
        place: name.to_owned(),
        of: data.definition(),
        taken: now,
        digest,
        changed: (0, 0),
        lines: 0,
        held,
        addresses,
    };
    Outcome::New(Snapshot::after(before.as_ref(), new))
}

type Found = (AddressSet, String, Vec<Held>);

/// The addresses, the digest of all that was read, and by what far files are known again; `None` if all files are the
/// same as before.
fn said(
    data: &Data,
    before: Option<&Snapshot>,
    gathered: &mut Gathered,
    wish: &Wish<'_>,
) -> Result<Option<Found>, Vec<String>> {
    let names: Vec<&String> = match data.countries.is_empty() {
        true => data.files.iter().collect(),
        false => data.files.iter().chain(&data.delegations).collect(),
    };
    let known = |file: &str| before.and_then(|it| it.held.iter().find(|it| it.file == file));
    let (mut texts, mut wrong) = (Vec::new(), Vec::new());
    for &file in &names {
        match gathered.read(file, known(file)) {
            Ok(said) => texts.push((file, said)),
            Err(why) => wrong.push(about(file, &why)),
        }
    }
    if !wrong.is_empty() {
        return Err(wrong);
    }
    if texts.iter().all(|it| matches!(it.1, Said::Same)) {
        return Ok(None);
    }
    let mut hash = Hash::new();
    let (mut sets, mut held) = (Vec::new(), Vec::new());
    for (at, (file, said)) in texts.into_iter().enumerate() {
        let said = match said {
            // All of it is wanted, since another file has changed.
            Said::Same => gathered.read(file, None).map_err(|why| vec![about(file, &why)])?,
            text @ Said::Text(..) => text,
        };
        let Said::Text(text, known) = said else {
            return Err(vec![about(file, "is the same as what was never read, says the server")]);
        };
        hash.update(text.as_bytes());
        held.extend(known);
        let read = match (at < data.files.len(), &data.column) {
            (true, None) => feed::list(&text, wish.takes_cut_off()),
            (true, Some(name)) => feed::column(&text, name, wish.takes_cut_off()),
            (false, _) => feed::delegations(&text, &data.countries),
        };
        match read {
            Ok(set) => sets.push(set),
            Err(refused) => wrong.push(about(file, &told(&refused))),
        }
    }
    if !wrong.is_empty() {
        return Err(wrong);
    }
    let digest = hash.finalize().iter().map(|byte| format!("{byte:02x}")).collect();
    Ok(Some((sets.into_iter().collect(), digest, held)))
}

fn about(file: &str, why: &str) -> String {
    format!("{} {why}", file.escape_debug())
}

fn told(refused: &Refused) -> String {
    let first: Vec<String> = refused.first.iter().map(ToString::to_string).collect();
    let more = refused.count - refused.first.len();
    let more = if more > 0 { format!("; and {more} more lines like that") } else { String::new() };
    format!("is not as it should be: {}{more}", first.join("; "))
}

fn sentence(doubt: &feed::Doubt) -> String {
    match doubt {
        feed::Doubt::Empty => "there is no address in it".into(),
        feed::Doubt::Shrunk { from, to, what } => {
            format!("it has less than half of what it had: {to} {what}, not {from}")
        }
        feed::Doubt::Grown { from, to, what } => {
            format!("it has twice as much as it had, or more: {to} {what}, not {from}")
        }
        feed::Doubt::Everything(family) => {
            let version = match family {
                Family::V4 => "IPv4",
                Family::V6 => "IPv6",
            };
            format!("it has more than half of all {version} addresses that there are")
        }
    }
}
