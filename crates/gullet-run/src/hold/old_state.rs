//! What a restore in place leaves to whoever releases the application.

use std::path::Path;

use gullet_host::world::Clock;
use gullet_model::Reason;

/// The old state of applications that are being restored in place. While the new state is only half in place, an application
/// must not be released before the old one is back. This is all that the hold knows of restores; it is handed in.
pub trait OldState: Sync {
    /// Whether the old state of the application is not in place, or may not be. `state` is Gullet's state folder.
    fn is_away(&self, state: &Path, app: &str) -> bool;

    /// Puts the old state back, where it is away.
    ///
    /// # Errors
    /// In words, why it cannot be put back; the application must not be started then.
    fn put_back(&self, state: &Path, app: &str, clock: &dyn Clock) -> Result<(), Reason>;
}
