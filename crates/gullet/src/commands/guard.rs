//! `gullet guard`: the second process of a hold. Not for people.

use clap::Args;
use gullet_restore::restore::place::Journals;
use gullet_run::hold::guard::{Signals, serve};

use crate::error::CommandError;
use crate::exit::Exit;
use crate::outside::{RealWorld, as_guard};

/// Own a hold for the process that started this one; speaks JSON Lines
#[derive(Args)]
pub struct GuardArgs {}

pub fn guard() -> Result<Exit, CommandError> {
    let outside = RealWorld::new();
    let told = Signals::default();
    as_guard(&told)?;
    match serve(outside.world(), std::io::stdin(), std::io::stdout(), &told, &Journals) {
        Ok(()) => Ok(Exit::Complete),
        Err(why) => Err(CommandError::text(Exit::Failed, why)),
    }
}
