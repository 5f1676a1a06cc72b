//! Somewhere that probes can be sent from.

use std::path::PathBuf;

/// Somewhere that probes can be sent from, standing for a place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Vantage {
    /// The place, as in `--from`.
    pub place: String,
    /// How to get there.
    pub way: Way,
}

/// How to get to a vantage.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Way {
    /// The network namespace of a machine there, such as `/run/netns/NAME`.
    Namespace(PathBuf),
    /// A command, with its arguments, that gives a byte stream to `tipstaff vantage` there.
    Far(Vec<String>),
}

const FORM: &str = "expected PLACE=ssh://[USER@]HOST[:PORT], such as curators=ssh://duty@198.51.100.7, \
                    or PLACE=netns:PATH, such as curators=netns:/run/netns/office";
const COMMAND_FORM: &str =
    "expected PLACE=COMMAND, where COMMAND gives a byte stream to `tipstaff vantage` there";

impl Vantage {
    /// Reads `PLACE=ssh://[USER@]HOST[:PORT]` or `PLACE=netns:PATH`.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn parse(text: &str) -> Result<Self, String> {
        let (place, way) = text.split_once('=').filter(|it| !it.0.is_empty()).ok_or(FORM)?;
        let way = match (way.strip_prefix("netns:"), way.strip_prefix("ssh://")) {
            (Some(path), _) if !path.is_empty() => Way::Namespace(path.into()),
            (_, Some(host)) => Way::Far(over_ssh(host).ok_or(FORM)?),
            _ => return Err(FORM.into()),
        };
        Ok(Self { place: place.into(), way })
    }

    /// Reads `PLACE=COMMAND`; the command is one for the shell.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn parse_command(text: &str) -> Result<Self, String> {
        let parts = text.split_once('=').filter(|it| !it.0.is_empty() && !it.1.trim().is_empty());
        let (place, command) = parts.ok_or(COMMAND_FORM)?;
        let words = ["sh", "-c", command].map(str::to_owned);
        Ok(Self { place: place.into(), way: Way::Far(words.to_vec()) })
    }
}

/// The command for `[USER@]HOST[:PORT]`; an IPv6 address stands in brackets (RFC 3986 section
/// 3.2.2). `None` if it is none of that.
fn over_ssh(text: &str) -> Option<Vec<String>> {
    let text = text.strip_suffix('/').unwrap_or(text);
    let (user, rest) = match text.rsplit_once('@') {
        Some((user, rest)) => (Some(user), rest),
        None => (None, text),
    };
    let (host, port) = match rest.strip_prefix('[') {
        Some(rest) => {
            let (host, behind) = rest.split_once(']')?;
            (host, if behind.is_empty() { None } else { Some(behind.strip_prefix(':')?) })
        }
        None => match rest.split_once(':') {
            Some((host, port)) => (host, Some(port)),
            None => (rest, None),
        },
    };
    // Nothing of it may be taken for an option.
    let plain = |word: &str| {
        let good = |char: char| char.is_alphanumeric() || "._-:%".contains(char);
        !word.is_empty() && !word.starts_with('-') && word.chars().all(good)
    };
    if !plain(host) || user.is_some_and(|user| !plain(user)) {
        return None;
    }
    let mut words = vec!["ssh".to_owned(), "-T".to_owned()];
    if let Some(port) = port {
        words.extend(["-p".to_owned(), port.parse::<u16>().ok()?.to_string()]);
    }
    if let Some(user) = user {
        words.extend(["-l".to_owned(), user.to_owned()]);
    }
    words.extend(["--", host, "tipstaff", "vantage"].map(str::to_owned));
    Some(words)
}

#[cfg(test)]
mod tests {
    use super::{Vantage, Way};

    #[test]
    fn a_vantage_names_a_place_and_a_way_there() {
        let vantage = Vantage::parse("curators=netns:/run/netns/office").expect("reads");
        assert_eq!(vantage.place, "curators");
        let far = |text: &str| match Vantage::parse(text).expect("reads").way {
            Way::Far(words) => words.join(" "),
            Way::Namespace(path) => panic!("{path:?}"),
        };
        assert_eq!(far("a=ssh://office"), "ssh -T -- office tipstaff vantage");
        assert_eq!(
            far("a=ssh://duty@[2001:db8:51::7]:2202/"),
            "ssh -T -p 2202 -l duty -- 2001:db8:51::7 tipstaff vantage"
        );
        let wrong = [
            "curators",
            "curators=/run/netns/office",
            "=netns:/x",
            "curators=netns:",
            "curators=ssh://",
            "curators=ssh://-oProxyCommand=x",
            "curators=ssh://a b",
            "curators=ssh://office:port",
        ];
        for wrong in wrong {
            assert!(Vantage::parse(wrong).is_err(), "{wrong}");
        }
        assert!(Vantage::parse_command("curators= ").is_err());
        assert!(Vantage::parse_command("curators=run x=y").is_ok());
    }
}
