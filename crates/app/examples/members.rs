//! Many members of a fleet in one process: `members FLEET CARRIER SIGNERS FIRST LAST`. Says when they took what.

use std::path::PathBuf;
use std::sync::atomic::AtomicBool;
use std::sync::mpsc::channel;
use std::time::Instant;
use tipstaff_app::fleet::{CarrierName, Trust, simulate};

static OVER: AtomicBool = AtomicBool::new(false);

fn main() {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let [fleet, carrier, signers, first, last] = &words[..] else {
        eprintln!("members FLEET CARRIER SIGNERS FIRST LAST");
        std::process::exit(2);
    };
    let number = |word: &String| word.parse::<usize>().expect("a number");
    let (first, last) = (number(first), number(last));
    let count = last + 1 - first;
    let carrier = CarrierName { name: carrier.clone(), ..CarrierName::default() };
    let trust = Trust { fleet: fleet.clone(), signers: PathBuf::from(signers), carrier };
    let hosts: Vec<String> = (first..=last).map(|it| format!("shelf-{it:05}")).collect();
    let (tell, told) = channel();
    let _members = simulate(&trust, &hosts, &OVER, &tell).expect("threads");
    println!("{count} members");
    let (mut number, mut have, mut failed) = (0, 0, 0_u64);
    let mut began = Instant::now();
    for taken in told {
        match taken {
            Ok(taken) => {
                let new = taken.number.unwrap_or_default();
                if new > number {
                    (number, have, began) = (new, 0, Instant::now());
                }
                have += usize::from(new == number);
                let marks = [1, count / 2, count * 9 / 10, count * 99 / 100, count];
                if marks.contains(&have) {
                    let after = began.elapsed().as_secs_f64();
                    println!(
                        "number {number}: {have} have it {after:.1} s after the first, {failed} failures"
                    );
                }
            }
            Err(failure) => {
                failed += 1;
                if failed <= 3 {
                    println!("{}", failure.line());
                }
            }
        }
    }
}
