//! Who owns what is captured, by number and name: numbers mean somebody else on another machine.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::os::unix::fs::MetadataExt;

use crate::hook::passwd;
use crate::record::Owner;

/// Owners kept of a part, at most, of each kind.
const KEPT: usize = 1000;

/// Owners seen so far.
#[derive(Clone, Debug, Default)]
pub(super) struct Owners {
    users: BTreeSet<u32>,
    groups: BTreeSet<u32>,
    last: Option<(u32, u32)>,
}

impl Owners {
    pub(super) fn see(&mut self, meta: &fs::Metadata) {
        let both = (meta.uid(), meta.gid());
        // Nearly always it is the one before.
        if self.last == Some(both) {
            return;
        }
        self.last = Some(both);
        if self.users.len() < KEPT {
            self.users.insert(both.0);
        }
        if self.groups.len() < KEPT {
            self.groups.insert(both.1);
        }
    }

    /// With their names here.
    pub(super) fn named(self) -> (Vec<Owner>, Vec<Owner>) {
        let named = |ids: BTreeSet<u32>, names: BTreeMap<u32, String>| {
            ids.into_iter().map(|id| Owner { id, name: names.get(&id).cloned() }).collect()
        };
        (named(self.users, names(&passwd())), named(self.groups, names(&group())))
    }
}

/// The file of groups.
fn group() -> String {
    fs::read_to_string("/etc/group").unwrap_or_default()
}

/// The names in a password file or a file of groups, whose lines are name, something, number, and more.
fn names(text: &str) -> BTreeMap<u32, String> {
    let line = |line: &str| {
        let mut fields = line.split(':');
        let (name, id) = (fields.next()?, fields.nth(1)?);
        Some((id.parse().ok()?, name.to_owned()))
    };
    // The first line of a number names it.
    text.lines().rev().filter_map(line).collect()
}

/// The users and the groups of this machine, by name.
pub(crate) fn owners_here() -> (BTreeMap<String, u32>, BTreeMap<String, u32>) {
    let by_name = |text: String| names(&text).into_iter().map(|(id, name)| (name, id)).collect();
    (by_name(passwd()), by_name(group()))
}
