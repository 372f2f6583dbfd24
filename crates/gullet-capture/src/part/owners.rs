//! Who owns what is captured, by number and name: numbers mean somebody else on another machine.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::MetadataExt;

use nix::unistd::{Gid, Group, Uid, User};

use gullet_model::record::Owner;

/// Owners kept of a part, at most, of each kind.
const KEPT: usize = 1000;

/// Owners seen so far.
#[derive(Clone, Debug, Default)]
pub(crate) struct Owners {
    users: BTreeSet<u32>,
    groups: BTreeSet<u32>,
    last: Option<(u32, u32)>,
}

impl Owners {
    pub(crate) fn see(&mut self, meta: &fs::Metadata) {
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
    pub(crate) fn named(self) -> (Vec<Owner>, Vec<Owner>) {
        let user = |id: u32| User::from_uid(Uid::from_raw(id)).ok().flatten().map(|user| user.name);
        let group = |id: u32| Group::from_gid(Gid::from_raw(id)).ok().flatten().map(|group| group.name);
        let users = self.users.into_iter().map(|id| Owner { id, name: user(id) }).collect();
        (users, self.groups.into_iter().map(|id| Owner { id, name: group(id) }).collect())
    }
}

/// The number of a user of this machine.
pub fn user_here(name: &str) -> Option<u32> {
    User::from_name(name).ok().flatten().map(|user| user.uid.as_raw())
}

/// The number of a group of this machine.
pub fn group_here(name: &str) -> Option<u32> {
    Group::from_name(name).ok().flatten().map(|group| group.gid.as_raw())
}
