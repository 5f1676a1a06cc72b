//! One policy for many hosts: sealed, rolled out, and what each makes of it.

mod by_etcd;
mod by_ssh;
mod compared;
mod expected;
mod faults;
mod mishap;
mod pairs;
mod probed;
mod rolled;
mod sealed;
mod shown;
mod shut_off;
mod stores;
mod unlucky;
mod world;
