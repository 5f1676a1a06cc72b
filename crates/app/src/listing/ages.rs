//! How old what places hold is.

use super::names::{DataWords, data};
use crate::Loaded;
use crate::store::Home;
use serde::Serialize;
use std::path::Path;
use tipstaff_core::policy::{Place, Time};

/// A place whose addresses come from files.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PlaceAge {
    /// Its name.
    pub name: String,
    /// What its files said last, and when they were read.
    #[serde(flatten)]
    pub data: DataWords,
    /// How many seconds ago that was; `null` if that is not known.
    pub age: Option<u64>,
}

/// How old what places hold is.
pub(crate) fn ages(loaded: &Loaded, home: &Home) -> Vec<PlaceAge> {
    let path = home.policy.as_ref().map(|it| it.0.as_path()).unwrap_or(Path::new(&loaded.name));
    let age = |read: &str| {
        let seconds = loaded.now.seconds() - Time::parse(read)?.seconds();
        u64::try_from(seconds).ok()
    };
    let of = |place: &Place| {
        let data = data(place.data.as_ref()?, &place.name, path);
        let age = data.read.as_deref().and_then(age);
        Some(PlaceAge { name: place.name.clone(), data, age })
    };
    loaded.policy.places.iter().filter_map(of).collect()
}
