//! What a policy means for the kernel, known without working it out again: when it was enforced, it was noted what came
//! of it. The same program makes the same of the same, so that rules with that digest are the policy's.

use crate::Loaded;
use crate::rules_digest::{Digest, digest_of};
use crate::store::{Home, WorkedOut};
use std::fs;
use std::hash::Hash;
use std::os::unix::fs::MetadataExt;
use tipstaff_core::program::compare_besides;
use tipstaff_linux::ruleset::Snapshot;

const OWN_PROGRAM: &str = "/proc/self/exe";

/// Notes what a policy was worked out to; `rules` is the digest of that, if it is known already. Where it cannot be noted,
/// it is worked out again when it is asked for.
pub(crate) fn note(home: &Home, policy: &Loaded, rules: Option<String>) {
    if let Some(from) = from(policy) {
        let rules = rules.unwrap_or_else(|| digest_of(policy.program()));
        let _ = WorkedOut { from, rules }.write(home);
    }
}

/// The digest of the rules that the policy is worked out to; `None` if nobody noted that.
pub(crate) fn rules_of(home: &Home, policy: &Loaded) -> Option<String> {
    let noted = WorkedOut::read(home)?;
    (noted.from == from(policy)?).then_some(noted.rules)
}

/// The digest of the kernel's rules, if they say the same besides as the policy. Of a posture that has ended since,
/// none.
pub(crate) fn digest_as_said(policy: &Loaded, held: &Snapshot) -> Option<String> {
    let program = &held.program;
    let same = held.strays.is_empty()
        && program.taken.as_ref().is_none_or(|it| it.holds_at(policy.now))
        && compare_besides(&policy.plan, program).is_empty();
    same.then(|| digest_of(program))
}

/// A digest of all from which the rules are worked out, and of what works them out: this very file, as it was written
/// last. `None` where what holds later is different from what holds now, or the file does not say what it is.
fn from(policy: &Loaded) -> Option<String> {
    if policy.later.is_some() {
        return None;
    }
    let file = fs::metadata(OWN_PROGRAM).ok()?;
    let mut digest = Digest::default();
    (env!("CARGO_PKG_VERSION"), file.dev(), file.ino(), file.size()).hash(&mut digest);
    (file.mtime(), file.mtime_nsec(), file.ctime(), file.ctime_nsec()).hash(&mut digest);
    policy.plan.hash_meaning(&mut digest);
    Some(digest.digits())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::loaded;
    use std::fs::DirBuilder;
    use std::os::unix::fs::DirBuilderExt;
    use tipstaff_core::policy::{Source, Time};

    const POLICY: &str = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
                          [[host.sluice.rule]]\nname = \"web\"\nallow = [\"443/tcp\"]\n\
                          until = 2099-01-01T00:00:00Z\n";

    fn policy(text: &str) -> Loaded {
        loaded("policy.toml", vec![Source::new("policy.toml", text)], None)
            .unwrap_or_else(|failure| panic!("{}: {text}", failure.line()))
    }

    #[test]
    fn a_note_is_of_the_very_same_meaning() {
        let folder = tempfile::tempdir().expect("a folder");
        let home = Home::of(&folder.path().join("state"), &folder.path().join("note"));
        DirBuilder::new().recursive(true).mode(0o700).create(&home.folder).expect("made");
        let enforced = policy(POLICY);
        assert_eq!(rules_of(&home, &enforced), None);
        note(&home, &enforced, None);
        let known = |policy: &Loaded| rules_of(&home, policy);
        let rules = Some(digest_of(enforced.program()));
        assert_eq!(known(&policy(POLICY)), rules);
        let reworded = POLICY.replace("name =", "why = \"for readers\"\nname =");
        assert_eq!(
            known(&policy(&format!("# a remark\n{reworded}"))),
            rules,
            "nothing else is meant"
        );
        for other in [
            POLICY.replace("443", "444"),
            POLICY.replace("web", "page"),
            POLICY.replace("sluice", "bench"),
            POLICY.replace("192.0.2.10", "192.0.2.11"),
            POLICY.replace("2099", "2098"),
            POLICY.replace("until", "paused = true\nuntil"),
            POLICY.replace("until", "log = true\nuntil"),
            POLICY.replace("[[host", "record = \"off\"\n[[host"),
            POLICY.replace("[[host", "log = \"all\"\n[[host"),
        ] {
            assert_eq!(known(&policy(&other)), None, "{other}");
        }
        let mut ended = policy(POLICY);
        ended.now = Time::parse("2099-06-01T00:00:00Z").expect("a time");
        ended.not_before(Time::parse("2099-07-01T00:00:00Z").expect("a time"));
        assert_eq!(known(&ended), None, "what is allowed for a time only is over");
    }
}
