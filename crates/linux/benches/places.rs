//! What it costs when a place holds others, against the bare time that the kernel takes for the same elements in a
//! set of the same form; and what loading a large place costs against that form. Measured alternately in one run.

use std::time::{Duration, Instant};
use tipstaff_core::plan::resolve;
use tipstaff_core::policy::{Source, Time, read_all};
use tipstaff_core::program::{RuleProgram, lower};
use tipstaff_core::space::AddressSet;
use tipstaff_linux::lab::testing::sealed_benchmark;
use tipstaff_linux::ruleset::{Marks, change, encode, enforce, generation, read};
use tipstaff_linux::{NetlinkSocket, Protocol, Transport, deliver};
use tipstaff_wire::nf_tables::{self as nf, Element};

const SIZES: [u32; 3] = [10_000, 100_000, 1_000_000];
const CHANGED: u32 = 1_000;
const ROUNDS: usize = 5;
const HOST: &str = "sluice";

fn main() {
    sealed_benchmark(|| {
        for single in [false, true] {
            let what = if single { "single addresses" } else { "networks" };
            println!("a place of so many {what}, {CHANGED} of them changed ({ROUNDS} rounds)");
            println!(
                "{:>9}   {:>11} {:>11} {:>6}   {:>11} {:>11} {:>6} {:>6}",
                "", "bare load", "load", "ratio", "bare change", "change", "ratio", "/load"
            );
            for size in SIZES {
                measure(size, single);
            }
        }
    });
}

/// Ranges that do not touch; `shift` makes some of them others.
fn ranges(size: u32, single: bool, shift: u32) -> Vec<(u32, u32)> {
    let step = u32::MAX / (size + 1);
    let every = size / CHANGED;
    let width = if single { 0 } else { (step / 2).min(255) };
    let range = |at: u32| {
        let first = at * step + if at.is_multiple_of(every) { shift } else { 0 };
        (first, first + width)
    };
    (0..size).map(range).collect()
}

fn program(ranges: &[(u32, u32)]) -> RuleProgram {
    let text = "edition = 1\n[place.far]\naddresses = [\"192.0.2.0/24\"]\n[host.sluice]\n\
                addresses = [\"192.0.2.10\"]\n[[host.sluice.rule]]\nname = \"web\"\nallow = [\"443/tcp\"]\n\
                from = [\"far\"]\n";
    let policy = read_all(&[Source::new("place.toml", text)]).expect("a policy");
    let mut plan = resolve(&policy, HOST, Time::from_seconds(0)).expect("the host");
    let set = AddressSet::from_v4(ranges.iter().copied());
    for decision in plan.chains.iter_mut().flat_map(|it| &mut it.decisions) {
        let web = decision.id.to_string() == "web";
        for condition in decision.conditions.iter_mut().filter(|_| web) {
            condition.source = set.clone();
        }
    }
    lower(&plan)
}

/// A set of the form that the kernel is best at for these ranges, in a table of its own.
fn bare_set(single: bool, size: u32) -> nf::Set {
    nf::Set {
        table: "bare".into(),
        name: "set".into(),
        flags: if single { 0 } else { nf::set_flags::INTERVAL },
        key_length: 4,
        id: 1,
        size: single.then_some((size + size / 4).next_power_of_two()),
        ..nf::Set::default()
    }
}

fn elements(ranges: &[(u32, u32)], single: bool) -> Vec<Element> {
    let key = |it: u32| it.to_be_bytes().to_vec();
    let both = |&(first, last): &(u32, u32)| {
        let end = (!single).then(|| Element::end(key(last + 1)));
        [Some(Element::key(key(first))), end].into_iter().flatten().collect::<Vec<_>>()
    };
    ranges.iter().flat_map(both).collect()
}

/// Sends a batch, and gives the time until the kernel has done all of it; `None` if it is too much to be sent at once.
fn send(socket: &mut NetlinkSocket, batch: &nf::BatchOutput) -> Option<Duration> {
    let begun = Instant::now();
    match deliver(socket, "measure", batch) {
        Ok(refused) => {
            assert_eq!(refused, []);
            Some(begun.elapsed())
        }
        Err(error) => {
            assert!(error.to_string().contains("more than this user may send"), "{error}");
            None
        }
    }
}

fn bare_load(socket: &mut NetlinkSocket, set: &nf::Set, elements: &[Element]) -> Option<Duration> {
    let mut batch = nf::Batch::begin(socket.next_sequence());
    let table = nf::Table { name: "bare".into(), ..nf::Table::default() };
    batch.new_table(&table);
    batch.delete_table("bare");
    batch.new_table(&table);
    batch.new_set(set);
    batch.new_elements(set, elements);
    send(socket, &batch.finish().expect("fits"))
}

fn bare_change(
    socket: &mut NetlinkSocket,
    set: &nf::Set,
    gone: &[Element],
    come: &[Element],
) -> Duration {
    let mut batch = nf::Batch::begin(socket.next_sequence());
    batch.delete_elements(set, gone);
    batch.new_elements(set, come);
    send(socket, &batch.finish().expect("fits")).expect("small enough")
}

fn measure(size: u32, single: bool) {
    let (old, new) = (ranges(size, single, 0), ranges(size, single, 1));
    let [was, is] = [&old, &new].map(|it| program(it));
    let set = bare_set(single, size);
    let all = elements(&old, single);
    let only = |these: &[(u32, u32)], those: &[(u32, u32)]| {
        let apart: Vec<_> =
            these.iter().zip(those).filter(|it| it.0 != it.1).map(|it| *it.0).collect();
        elements(&apart, single)
    };
    let (gone, come) = (only(&old, &new), only(&new, &old));
    let mut socket = NetlinkSocket::open(Protocol::Netfilter).expect("a socket");
    let marks = Marks::default();
    // Reading a million ranges back takes the kernel a minute, since it begins each part of a dump anew.
    let rounds = if size > 100_000 { 1 } else { ROUNDS };
    let [mut bare, mut load, mut bare_changed, mut changed] = [const { Vec::new() }; 4];
    for _ in 0..rounds {
        let Some(time) = bare_load(&mut socket, &set, &all) else {
            println!(
                "{size:>9}   more than may be sent at once here: run it as root of the machine"
            );
            return;
        };
        bare.push(time);
        bare_changed.push(bare_change(&mut socket, &set, &gone, &come));
        let begun = Instant::now();
        let (batch, _) = encode(&was, HOST, socket.next_sequence()).expect("encoded");
        send(&mut socket, &batch.finish().expect("fits")).expect("small enough");
        load.push(begun.elapsed());
        if size > 100_000 {
            continue;
        }
        enforce(&mut socket, HOST, &was).expect("enforced");
        let held = read(&mut socket).expect("read").expect("our table");
        let at = generation(&mut socket).expect("a number");
        let begun = Instant::now();
        let done = change(&mut socket, &held, (HOST, &is, &marks), at, &[]).expect("changed");
        assert!(done, "all rules would have been replaced");
        changed.push(begun.elapsed());
    }
    let [bare, load, bare_changed] = [bare, load, bare_changed].map(median);
    let changed = (!changed.is_empty()).then(|| median(changed));
    let ratio = |time: Duration, to: Duration| time.as_secs_f64() / to.as_secs_f64();
    let changed = changed.map_or_else(String::new, |it| {
        format!("{it:>11.2?} {:>6.2} {:>6.2}", ratio(it, bare_changed), ratio(it, load))
    });
    println!(
        "{size:>9}   {bare:>11.2?} {load:>11.2?} {:>6.2}   {bare_changed:>11.2?} {changed}",
        ratio(load, bare)
    );
}

fn median(mut times: Vec<Duration>) -> Duration {
    times.sort_unstable();
    times[times.len() / 2]
}
