//! What somebody else made, or made something else of.

use crate::world::{
    FLEET, KEY, OTHER, OTHER_PUBLIC, PUBLIC, files, key, now, sealed, signers, statement,
};
use proptest::prelude::*;
use tipstaff_sealed::{Refusal, Signers, Unsealed, seal};

/// Why it is refused, if it is.
fn refusal(bytes: &[u8]) -> Option<Refusal> {
    Unsealed::read(bytes).and_then(|it| it.open(&signers(), FLEET, now())).err()
}

#[test]
fn each_of_a_thousand_altered_bytes_is_noticed() {
    let bytes = sealed(7);
    assert_eq!(refusal(&bytes), None);
    // Spread over all of it, padding and ends of archives included.
    let places = (0..1_000).map(|it| it * bytes.len() / 1_000);
    for place in places {
        for by in [0x01, 0x20, 0xff] {
            let mut altered = bytes.clone();
            altered[place] ^= by;
            assert!(refusal(&altered).is_some(), "byte {place} ^ {by:#04x}");
        }
    }
}

#[test]
fn what_is_cut_off_or_longer_is_noticed() {
    let bytes = sealed(7);
    for length in (0..bytes.len()).step_by(7) {
        assert!(refusal(&bytes[..length]).is_some(), "{length} bytes");
    }
    for more in [&[0][..], &[0; 512], &[0; 10_240], &bytes] {
        assert!(refusal(&[&bytes, more].concat()).is_some(), "{} more bytes", more.len());
    }
}

#[test]
fn what_strangers_signed_is_refused() {
    let bytes = seal(&statement(7), &files(), &key(OTHER)).expect("sealed");
    let fingerprint = key(OTHER).fingerprint();
    assert_eq!(refusal(&bytes), Some(Refusal::NobodyOurs(fingerprint)));
    // Taken off the list: what was sealed before is refused too.
    let both = Signers::read(&format!("duty {PUBLIC}visitor {OTHER_PUBLIC}")).expect("a list");
    let opened = Unsealed::read(&bytes).and_then(|it| it.open(&both, FLEET, now()));
    assert_eq!(opened.map(|it| it.signer).as_deref(), Ok("visitor"));
}

#[test]
fn a_signature_of_something_else_does_not_count() {
    // The archive of one with the signature of another, both by the same key.
    let (one, other) = (sealed(7), sealed(8));
    let begins = |it: &[u8]| it.windows(14).position(|it| it == b"bundle.tar.sig").expect("there");
    let mixed = [&one[..begins(&one)], &other[begins(&other)..]].concat();
    assert_eq!(refusal(&mixed), Some(Refusal::Altered));
}

#[test]
fn what_is_for_another_fleet_is_refused() {
    let bytes = sealed(7);
    let opened = Unsealed::read(&bytes).and_then(|it| it.open(&signers(), "upland", now()));
    let refused = Refusal::OfAnother { its: FLEET.into(), ours: "upland".into() };
    assert_eq!(opened.map(|_| ()), Err(refused));
}

#[test]
fn no_key_is_told_by_what_is_written_of_it() {
    let key = key(KEY);
    let written = format!("{key:?}");
    let secret = KEY.lines().nth(2).expect("a line of the key");
    assert!(written.contains("SHA256:") && !written.contains(secret), "{written}");
}

proptest! {
    /// Whatever comes, it is refused; nothing is opened, nothing ends the program.
    #[test]
    fn noise_is_refused(bytes in proptest::collection::vec(any::<u8>(), 0..4_000)) {
        prop_assert!(refusal(&bytes).is_some());
    }

    /// Likewise noise in the middle of a good one.
    #[test]
    fn noise_within_is_refused(at in 0usize..1_000, noise in proptest::collection::vec(any::<u8>(), 1..600)) {
        let bytes = sealed(7);
        let at = at * (bytes.len() - noise.len()) / 1_000;
        let mut altered = bytes.clone();
        altered[at..at + noise.len()].copy_from_slice(&noise);
        prop_assert_eq!(refusal(&altered).is_some(), altered != bytes);
    }
}
