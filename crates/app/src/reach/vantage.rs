//! Somewhere that probes can be sent from.

use crate::ssh;
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
            (_, Some(host)) => Way::Far(ssh::words(host, &["tipstaff", "vantage"]).ok_or(FORM)?),
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
