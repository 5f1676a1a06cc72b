//! Every file of a folder of bad policies gives the diagnostic kept beside it.

use crate::harness::Desk;
use std::fs;
use std::path::PathBuf;

const FOLDER: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/bad");

/// `TIPSTAFF_BLESS=1` writes what comes out beside each policy, to be read before it is kept.
#[test]
fn each_mistake_is_shown_where_it_is_with_a_way_out() {
    let bless = std::env::var_os("TIPSTAFF_BLESS").is_some();
    let mut policies: Vec<PathBuf> = fs::read_dir(FOLDER)
        .expect("the folder is there")
        .map(|entry| entry.expect("an entry").path())
        .filter(|path| path.extension().is_some_and(|it| it == "toml"))
        .collect();
    policies.sort();
    assert!(policies.len() >= 80, "only {} bad policies found", policies.len());
    let mut wrong = Vec::new();
    for path in policies {
        let name = path.file_stem().expect("a name").to_string_lossy().into_owned();
        let outcome = Desk::with(fs::read(&path).expect("read")).run(["show", "--host", "sluice"]);
        assert_eq!((outcome.code, outcome.stdout.as_str()), (2, ""), "{name}: {outcome:?}");
        let kept = path.with_extension("txt");
        if bless {
            fs::write(&kept, &outcome.stderr).expect("written");
        }
        if fs::read_to_string(&kept).unwrap_or_default() != outcome.stderr {
            wrong.push(format!("--- {name} now gives\n{}", outcome.stderr));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
