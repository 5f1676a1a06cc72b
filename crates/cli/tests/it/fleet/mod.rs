//! One policy for many hosts: sealed, rolled out, and what each makes of it.

mod by_etcd;
mod by_ssh;
mod compared;
mod faults;
mod pairs;
mod rolled;
mod sealed;
mod shut_off;
mod stores;
mod unlucky;
mod world;
