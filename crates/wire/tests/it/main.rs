//! The codecs against bytes of a real kernel, and against damage.

mod damage;
mod golden;
mod kernel_bytes;
mod numbers;
mod round_trips;
