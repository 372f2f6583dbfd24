//! `gullet store bring-back`: what was removed from a place that keeps versions, or replaced there.

use clap::Args;
use gullet_logbook::logbook::Moment;
use gullet_store::{ObjectVersion, SinceThen};

use super::spec_of;
use crate::args::Global;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::RealWorld;
use crate::text::{count, harmless, size, time};
use crate::ui::{GOOD, Ui, styled};

/// Bring back what was removed from a bucket that keeps versions, or replaced there
///
/// Each object becomes again what it was at the moment that is named, by the server's clock; what came later stays. Without --yes
/// it is only shown. Afterwards `gullet verify --store` says what can be restored.
///
/// Example: gullet store bring-back far --as-of 2026-11-03T12:00
#[derive(Args)]
pub struct BringBackArgs {
    /// A store's name in the definition, or the URL of a bucket
    store: String,
    /// The moment: a day, a day and a time as in 2026-11-03T12:00, or a point in time as in 2026-11-03T12:00:00Z
    #[arg(long, value_name = "MOMENT", value_parser = super::super::runs::moment)]
    as_of: Moment,
    /// Do it
    #[arg(long)]
    yes: bool,
}

pub(super) fn bring_back(ui: &mut Ui, global: &Global, args: &BringBackArgs) -> Result<Exit, CommandError> {
    let outside = RealWorld::new();
    outside.listen_to_signals()?;
    let world = outside.world();
    // The store's own file may be what was removed, so the store is not opened.
    let place = open::place_of(&spec_of(global, &args.store)?)?;
    let Some(versioned) = place.versioned() else {
        let text = format!("{} keeps no versions of its objects", harmless(&place.describe()));
        return Err(CommandError::text(Exit::Usage, text).hint("only a bucket of an object storage can"));
    };
    let then = args.as_of.in_zone(&jiff::tz::TimeZone::system(), world.clock.now());
    let then = then.ok_or_else(|| CommandError::text(Exit::Usage, "there was no such moment"))?;
    let found = SinceThen::of(&versioned.versions()?, then);
    let all: Vec<&ObjectVersion> = found.removed.iter().chain(&found.replaced).collect();
    let (mut done, mut problems) = (0_u64, Vec::new());
    for (number, version) in all.iter().enumerate().filter(|_| args.yes) {
        if world.stop.asked().is_some() {
            return Err(CommandError::text(Exit::Interrupted, "stopped before everything was brought back"));
        }
        ui.progress(&format!("object {} of {}", number + 1, all.len()));
        match versioned.bring_back(version) {
            Ok(()) => done += 1,
            Err(error) => problems.push((version.name.clone(), gullet_model::words::chain(&error))),
        }
    }
    let bytes: u64 = all.iter().map(|version| version.length).sum();
    if ui.is_json() {
        let names = |versions: &[ObjectVersion]| versions.iter().map(|one| one.name.clone()).collect::<Vec<_>>();
        ui.json(&serde_json::json!({
            "as_of": then, "removed": names(&found.removed), "replaced": names(&found.replaced), "added": found.added,
            "bytes": bytes, "brought_back": done, "problems": problems,
        }))?;
    } else {
        let (removed, replaced) = (found.removed.len() as u64, found.replaced.len() as u64);
        ui.say(format!(
            "since {}: {} removed, {replaced} replaced, {} of them; {} added, left as they are",
            time(then),
            count(removed, "object"),
            size(bytes),
            found.added
        ));
        if args.yes && problems.is_empty() {
            ui.say(format!("{} {} brought back", styled(GOOD, "✓"), count(done, "object")));
            ui.tell(format!("what can be restored: gullet verify --store {}", args.store));
        } else if !args.yes && !all.is_empty() {
            ui.tell("nothing was changed; say --yes to do it");
        }
        for (name, why) in &problems {
            ui.warning(&harmless(&format!("{name} was not brought back: {why}")));
        }
    }
    Ok(if problems.is_empty() { Exit::Complete } else { Exit::Failed })
}
