//! One policy for many hosts: sealed, rolled out, and what each makes of it.

mod by_etcd;
mod compared;
mod rolled;
mod sealed;
mod shut_off;
mod world;
