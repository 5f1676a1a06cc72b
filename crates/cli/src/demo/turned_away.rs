//! Who was turned away while the rules were checked from outside.

use super::world::World;
use tipstaff_app::callers::{self, By, Report, Request};
use tipstaff_app::vocabulary::Fared;
use tipstaff_app::{Failure, Loaded};
use tipstaff_linux::Here;

/// As a host's kernel remembers it.
pub fn turned_away(world: &World, loaded: &Loaded, host: &str) -> Result<Report, Failure> {
    let (fared, by) = (Some(Fared::Denied), Some(By::Sender));
    let request = Request { fared, by, ..Request::default() };
    world.node(host).run(|| callers::report(&Here, Ok(loaded), &request))?
}
