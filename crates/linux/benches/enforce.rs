//! What enforcing costs against the bare time that the kernel takes for the same batch, measured
//! alternately in one run, since a machine's speed drifts.

use std::time::{Duration, Instant};
use tipstaff_core::generate::{Generator, HOST_NAME, NOW};
use tipstaff_core::plan::resolve;
use tipstaff_core::policy::{Source, read};
use tipstaff_core::program::{RuleProgram, lower};
use tipstaff_linux::lab::testing::sealed_benchmark;
use tipstaff_linux::ruleset::{encode, enforce};
use tipstaff_linux::{NetlinkSocket, Protocol, Transport, deliver};
use tipstaff_wire::nf_tables as nf;

const SIZES: [usize; 4] = [10, 100, 1_000, 10_000];
const ROUNDS: usize = 15;

fn main() {
    sealed_benchmark(report);
}

fn report() {
    println!(
        "rules   bare kernel      in force   ratio   read back too   ratio   ({ROUNDS} rounds)"
    );
    for rules in SIZES {
        let [bare, load, whole] = measure(&program(rules));
        let ratio = |time: Duration| time.as_secs_f64() / bare.as_secs_f64();
        println!(
            "{rules:>5}   {bare:>11.2?}   {load:>11.2?}   {:>5.2}   {whole:>13.2?}   {:>5.2}",
            ratio(load),
            ratio(whole)
        );
    }
    large_place();
}

/// A place of so many addresses, no two of them neighbours.
const PLACE: u32 = 100_000;

fn addresses() -> impl Iterator<Item = u32> {
    (0..PLACE).map(|number| (10 << 24) + number * 3)
}

/// A place of many addresses, against the form in which the kernel loads and finds single
/// addresses fastest: a hash that is told its size.
fn large_place() {
    let list: Vec<String> =
        addresses().map(|it| format!("\"{}\"", std::net::Ipv4Addr::from_bits(it))).collect();
    let text = format!(
        "edition = 1\n[place.strangers]\naddresses = [{}]\n[host.{HOST_NAME}]\n\
         addresses = [\"192.0.2.10\"]\n[[host.{HOST_NAME}.rule]]\nname = \"strangers\"\n\
         deny = [\"any\"]\nfrom = [\"strangers\"]\n",
        list.join(", ")
    );
    let policy = read(&Source::new("place.toml", &text)).expect("a policy");
    let program = lower(&resolve(&policy, HOST_NAME, NOW).expect("the host"));
    let mut socket = NetlinkSocket::open(Protocol::Netfilter).expect("a socket");
    let [mut best, mut load, mut whole] = [const { Vec::new() }; 3];
    for _ in 0..ROUNDS {
        let bytes = bare_hash(socket.next_sequence());
        best.push(send(&mut socket, &bytes));
        let begun = Instant::now();
        let (batch, _) = encode(&program, HOST_NAME, socket.next_sequence()).expect("encoded");
        let bytes = batch.finish().expect("fits");
        send(&mut socket, &bytes);
        load.push(begun.elapsed());
        let begun = Instant::now();
        enforce(&mut socket, HOST_NAME, &program).expect("enforced");
        whole.push(begun.elapsed());
    }
    let [best, load, whole] = [best, load, whole].map(median);
    let ratio = |time: Duration| time.as_secs_f64() / best.as_secs_f64();
    println!("a place of {PLACE} addresses: the kernel's best form {best:.2?}");
    println!("  made and loaded {load:.2?}, ratio {:.2}", ratio(load));
    println!("  and read back and compared {whole:.2?}, ratio {:.2}", ratio(whole));
}

/// A table with nothing but the hash.
fn bare_hash(sequence: u32) -> nf::BatchOutput {
    let mut batch = nf::Batch::begin(sequence);
    let table = nf::Table { name: "bare".into(), ..nf::Table::default() };
    batch.new_table(&table);
    batch.delete_table("bare");
    batch.new_table(&table);
    let set = nf::Set {
        table: "bare".into(),
        name: "hash".into(),
        flags: nf::set_flags::CONSTANT,
        key_length: 4,
        id: 1,
        size: Some(PLACE),
        ..nf::Set::default()
    };
    batch.new_set(&set);
    let elements: Vec<nf::Element> =
        addresses().map(|it| nf::Element::key(it.to_be_bytes().to_vec())).collect();
    batch.new_elements(&set, &elements);
    batch.finish().expect("fits")
}

/// Sends a batch, and gives the time until the kernel has done all of it.
fn send(socket: &mut NetlinkSocket, batch: &nf::BatchOutput) -> Duration {
    let begun = Instant::now();
    assert_eq!(deliver(socket, "measure", batch).expect("answered"), []);
    begun.elapsed()
}

fn median(mut times: Vec<Duration>) -> Duration {
    times.sort_unstable();
    times[times.len() / 2]
}

fn program(rules: usize) -> RuleProgram {
    let text = Generator::new(1).long_policy(rules);
    let policy = read(&Source::new("long.toml", &text)).expect("a policy");
    lower(&resolve(&policy, HOST_NAME, NOW).expect("the host"))
}

/// The bare time that the kernel takes for the batch; the time until the rules are in force, which
/// includes making the batch; and the time until they have been read back and compared.
fn measure(program: &RuleProgram) -> [Duration; 3] {
    let mut socket = NetlinkSocket::open(Protocol::Netfilter).expect("a socket");
    enforce(&mut socket, HOST_NAME, program).expect("enforced");
    let [mut bare, mut load, mut whole] = [const { Vec::new() }; 3];
    for _ in 0..ROUNDS {
        let (batch, _) = encode(program, HOST_NAME, socket.next_sequence()).expect("encoded");
        let bytes = batch.finish().expect("fits");
        bare.push(send(&mut socket, &bytes));

        let begun = Instant::now();
        let (batch, _) = encode(program, HOST_NAME, socket.next_sequence()).expect("encoded");
        let bytes = batch.finish().expect("fits");
        send(&mut socket, &bytes);
        load.push(begun.elapsed());

        let begun = Instant::now();
        enforce(&mut socket, HOST_NAME, program).expect("enforced");
        whole.push(begun.elapsed());
    }
    [bare, load, whole].map(median)
}
