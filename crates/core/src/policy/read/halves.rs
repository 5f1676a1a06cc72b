//! A long list of one host's rules, of which two halves are read at a time.

use crate::hands::Hands;
use toml::Spanned;
use toml::de::{DeArray, DeTable, DeValue, Error};

/// Shorter texts are read as fast as they are cut in two.
const LONG: usize = 32 * 1024;

/// The second half of a text, if nothing but rules of one host stands there, as before it.
pub(super) struct Half {
    /// The half behind as many blanks as the first one has bytes, so that whatever is found stands where it does.
    text: String,
    /// Where it begins.
    at: usize,
    /// The host.
    host: String,
}

impl Half {
    /// The second half of a text that can be read by halves.
    pub(super) fn of(text: &str) -> Option<Self> {
        if text.len() < LONG { None } else { Self::of_any(text) }
    }

    fn of_any(text: &str) -> Option<Self> {
        // What seems to be a heading may be a part of such a text.
        if text.contains("\"\"\"") || text.contains("'''") {
            return None;
        }
        let middle = (text.len() / 2..text.len()).find(|at| text.is_char_boundary(*at))?;
        let at = middle + text[middle..].find("\n[[host.")? + 1;
        let (first, second) = text.split_at(at);
        let heading = second.split('\n').next()?;
        let host = heading.strip_prefix("[[host.")?.strip_suffix(".rule]]")?;
        let is_bare = |it: char| it.is_ascii_alphanumeric() || it == '-' || it == '_';
        let mut headings = second.match_indices("\n[").map(|it| &second[it.0 + 1..]);
        let line = format!("{heading}\n");
        let only_rules = headings.all(|it| it.starts_with(&line) || it == heading);
        let same_before = first.contains(&format!("\n{line}"));
        (only_rules && same_before && host.chars().all(is_bare)).then(|| Self {
            text: " ".repeat(at) + second,
            at,
            host: host.to_owned(),
        })
    }
}

/// Reads a text as TOML, by halves if there is a second one.
///
/// # Errors
/// The first mistake.
pub(super) fn parse<'t>(
    hands: &impl Hands,
    text: &'t str,
    half: Option<&'t Half>,
) -> Result<Spanned<DeTable<'t>>, Error> {
    if let Some(half) = half {
        let (first, second) =
            hands.both(|| DeTable::parse(&text[..half.at]), || DeTable::parse(&half.text));
        if let (Ok(mut first), Ok(second)) = (first, second)
            && join(first.get_mut(), second.into_inner(), &half.host).is_some()
        {
            return Ok(first);
        }
        // What is wrong is said as of the whole.
    }
    DeTable::parse(text)
}

/// Adds the rules of the second half, if that is all that it has, to those of the first.
fn join<'t>(first: &mut DeTable<'t>, second: DeTable<'t>, host: &str) -> Option<()> {
    let rules = only(second, "host").and_then(|it| only(table(it)?, host));
    let more = array(only(table(rules?)?, "rule")?)?;
    let DeValue::Table(hosts) = first.get_mut("host")?.get_mut() else { return None };
    let DeValue::Table(host) = hosts.get_mut(host)?.get_mut() else { return None };
    let DeValue::Array(rules) = host.get_mut("rule")?.get_mut() else { return None };
    more.into_iter().for_each(|it| rules.push(it));
    Some(())
}

/// What a table has under the key, if that is its only one.
fn only<'t>(mut table: DeTable<'t>, key: &str) -> Option<DeValue<'t>> {
    (table.len() == 1).then(|| table.remove(key)).flatten().map(Spanned::into_inner)
}

fn table(value: DeValue<'_>) -> Option<DeTable<'_>> {
    match value {
        DeValue::Table(table) => Some(table),
        _ => None,
    }
}

fn array(value: DeValue<'_>) -> Option<DeArray<'_>> {
    match value {
        DeValue::Array(array) => Some(array),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::{Half, parse};
    use crate::hands::OneByOne;
    use proptest::prelude::{any, prop_assert_eq, proptest};
    use toml::de::DeTable;

    /// What may stand in a file: mostly rules of one host, and whatever could be taken for them.
    const PARTS: [&str; 16] = [
        "[[host.sluice.rule]]\nname = \"web\"\nallow = [\"443/tcp\"]\n",
        "[[host.sluice.rule]]\nname = \"shell\"\nfrom = [\n  \"192.0.2.7\",\n  \"192.0.2.8\",\n]\n",
        "[[host.sluice.rule]]\n",
        "[[host.sluice.rule]]\nwhy = \"[[host.sluice.rule]]\"\n",
        "[[host.sluice.rule]]\nwhen.weekly = \"Mon 08:00\"\n",
        "# \u{e9}[[host.sluice.rule]]\n\n",
        "[host.sluice]\naddresses = [\"192.0.2.10\"]\n",
        "  [[host.sluice.rule]] # indented\nname = \"other\"\n",
        "[[host.bench.rule]]\nname = \"print\"\n",
        "[host.sluice.rule.sub]\nkey = 1\n",
        "[host.sluice.rule]\nkey = 1\n",
        "[[host.sluice.rule]]\nwhy = \"\"\"\n[[host.sluice.rule]]\nname = \"no\"\n\"\"\"\n",
        "[[host.sluice.rule]]\nfrom = [\n[[host.sluice.rule]]\n]\n",
        "[[host.sluice.rule]]\nname = \n",
        "[host]\nsluice = { rule = [] }\n",
        "[[place]]\n",
    ];

    proptest! {
        #[test]
        fn halves_are_read_as_the_whole_is(
            parts in proptest::collection::vec(any::<(u8, u8)>(), 1..24),
            begin in 0..3usize,
        ) {
            // Most often it is a plain rule.
            let part = |(often, which): (u8, u8)| {
                PARTS[usize::from(which) % if often % 8 == 0 { PARTS.len() } else { 5 }]
            };
            let begin = ["", "edition = 1\n", "edition = 1\n[host.sluice]\naddresses = []\n"][begin];
            let text: String = std::iter::once(begin).chain(parts.into_iter().map(part)).collect();
            let half = Half::of_any(&text);
            // Where everything stands is a part of it.
            let said = |it: Result<_, toml::de::Error>| format!("{it:?}");
            prop_assert_eq!(
                said(parse(&OneByOne, &text, half.as_ref())),
                said(DeTable::parse(&text)),
                "{}", text
            );
        }
    }

    #[test]
    fn a_list_of_rules_has_halves() {
        let rules: String = (0..9).map(|it| PARTS[it % 5]).collect();
        assert!(Half::of_any(&rules).is_some());
        assert!(Half::of(&rules).is_none(), "it is short");
        let long = rules.repeat(2_000);
        let half = Half::of(&long);
        assert!(half.is_some() && parse(&OneByOne, &long, half.as_ref()).is_ok());
        for other in [6, 8, 9, 10, 11, 14, 15].map(|it| PARTS[it]) {
            assert!(Half::of_any(&format!("{rules}{other}")).is_none(), "{other}");
        }
    }
}
