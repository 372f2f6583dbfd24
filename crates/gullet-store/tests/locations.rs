//! The locations that need no server do what every location must do.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on should panic")]

mod conformance;

use gullet_store::{Folder, Memory};

use conformance::{Lies, check};

#[test]
fn memory_and_a_folder_do_what_every_location_must_do() {
    assert_eq!(check(&Memory::default()), Lies::default());
    let folder = tempfile::tempdir().unwrap();
    assert_eq!(check(&Folder::new(folder.path().join("store"))), Lies::default());
}
