//! Every input of the corpus is survived.

use std::fs;
use std::path::Path;
use tipstaff_fuzz::TARGETS;

#[test]
fn the_corpus_is_survived() {
    for target in &TARGETS {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("corpus").join(target.name);
        let mut inputs = 0;
        for entry in fs::read_dir(&folder).expect("each target has a corpus").flatten() {
            println!("{}", entry.path().display());
            (target.run)(&fs::read(entry.path()).expect("read"));
            inputs += 1;
        }
        assert!(inputs >= 2, "{}: only {inputs} inputs", target.name);
    }
}
