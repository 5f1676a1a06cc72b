//! A plan and the program that it is lowered to say the same of every packet.

use tipstaff_core::generate::{Generator, HOST_NAME};
use tipstaff_core::plan::resolve;
use tipstaff_core::policy::{Source, read};
use tipstaff_core::program::lower;

const POLICIES: u64 = 400;
const PACKETS: usize = 500;

#[test]
fn plans_and_programs_agree_on_generated_packets() {
    let mut verdicts = std::collections::HashMap::new();
    for seed in 0..POLICIES {
        let mut generator = Generator::new(seed);
        let text = generator.policy();
        let policy = read(&Source::new("generated.toml", &text))
            .unwrap_or_else(|problems| panic!("seed {seed}: {problems:#?}\n{text}"));
        let plan = resolve(&policy, HOST_NAME).expect("the host is there");
        let program = lower(&plan);
        for _ in 0..PACKETS {
            let packet = generator.packet(&plan);
            let decided = plan.evaluate(&packet);
            assert_eq!(
                program.evaluate(&packet).as_ref(),
                Some(&decided),
                "seed {seed}, {packet:?}\n{text}"
            );
            *verdicts.entry(decided.verdict).or_insert(0) += 1;
        }
    }
    // The check means something only if every verdict is common.
    assert_eq!(verdicts.len(), 3);
    assert!(verdicts.values().all(|&count| count > 10_000), "{verdicts:?}");
}

/// Generated policies mean something as a test only if they use the whole language.
#[test]
fn generated_policies_use_every_key() {
    let texts: String = (0..POLICIES).map(|seed| Generator::new(seed).policy()).collect();
    for table in tipstaff_core::policy::SCHEMA {
        for key in table.keys {
            let found =
                [format!("{} = ", key.name), format!("[{}.", key.name), format!(".{}]", key.name)];
            assert!(found.iter().any(|it| texts.contains(it)), "`{}` is never used", key.name);
        }
    }
}
