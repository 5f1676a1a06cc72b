//! The built program, as its users meet it.

mod asking;
mod bad_policies;
mod booting;
mod completing;
mod cutting;
mod demo;
mod drafting;
mod editing;
mod enforcing;
mod folders;
mod guarding;
mod harness;
mod interfaces;
mod kernel;
mod programs;
mod project;
mod reach;
mod rehearsing;
mod reporting;
mod reviewing;
mod servers;
mod showing;
mod torture;
mod usage;
mod vantages;
mod way_back;
