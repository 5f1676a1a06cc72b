//! The core, tested on its own: text to meaning.

mod analysis;
mod answers;
mod baseline;
mod bundles;
mod drafting;
mod drift;
mod edges;
mod editing;
mod given;
mod items;
mod labels;
mod language;
mod lowering;
mod machine;
mod meaning;
mod mends;
mod placing;
mod reading;
mod reference;
mod rehearsing;
mod reopening;
mod served;
mod services;
mod sweeping;
mod tables;
mod written_down;
