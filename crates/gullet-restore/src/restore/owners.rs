//! Who owns here what somebody else owned there. Listings have numbers; records have the names of those numbers.

use std::collections::BTreeMap;

use gullet_store::listing::Entry;
use serde::{Deserialize, Serialize};

use gullet_capture::part::{group_here, user_here};
use gullet_model::record::{Capture, Owner};

/// An owner that cannot be mapped.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum OwnerError {
    /// It is not in the right form.
    #[error("`{0}` does not say who becomes whom: write OLD=NEW, or group:OLD=NEW, by number or name")]
    Form(String),
    /// Nobody is called so.
    #[error("there is nobody called `{name}` {place}")]
    Nobody {
        /// The name that was given.
        name: String,
        /// Where there is nobody of that name, in words.
        place: &'static str,
    },
}

/// Which numbers become which.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct OwnerMap {
    users: BTreeMap<u32, u32>,
    groups: BTreeMap<u32, u32>,
}

/// Gives the number of a name here.
type Here = fn(&str) -> Option<u32>;

/// The owners that a record names, of all parts.
fn recorded(captures: &[Capture]) -> (Vec<&Owner>, Vec<&Owner>) {
    let all = |of: fn(&Capture) -> &Vec<Owner>| {
        let mut owners: Vec<&Owner> = captures.iter().flat_map(of).collect();
        owners.sort_by_key(|owner| owner.id);
        owners.dedup();
        owners
    };
    (all(|capture| &capture.users), all(|capture| &capture.groups))
}

impl OwnerMap {
    /// A map by what somebody says (`OLD=NEW`, `group:OLD=NEW`, numbers or names), and by name where that is wanted.
    ///
    /// # Errors
    /// When it cannot be read, or a name is unknown.
    pub fn new(said: &[String], by_name: bool, captures: &[Capture]) -> Result<Self, OwnerError> {
        let (users, groups) = recorded(captures);
        let mut map = Self::default();
        if by_name {
            let named = |owners: &[&Owner], here: Here| {
                let same = |owner: &&Owner| Some((owner.id, here(owner.name.as_ref()?)?));
                owners.iter().filter_map(same).filter(|(old, new)| old != new).collect::<BTreeMap<_, _>>()
            };
            map = Self { users: named(&users, user_here), groups: named(&groups, group_here) };
        }
        for text in said {
            let (pair, is_group) = text.strip_prefix("group:").map_or((text.as_str(), false), |pair| (pair, true));
            let (old, new) = pair
                .split_once('=')
                .filter(|(old, new)| !old.is_empty() && !new.is_empty())
                .ok_or_else(|| OwnerError::Form(text.clone()))?;
            let (there, here, ids): (_, Here, _) =
                if is_group { (&groups, group_here, &mut map.groups) } else { (&users, user_here, &mut map.users) };
            let nobody = |name: &str, place| OwnerError::Nobody { name: name.to_owned(), place };
            let of_there = || there.iter().find(|owner| owner.name.as_deref() == Some(old)).map(|owner| owner.id);
            let old = old.parse().ok().or_else(of_there).ok_or_else(|| nobody(old, "in the record"))?;
            let new = new.parse().ok().or_else(|| here(new)).ok_or_else(|| nobody(new, "here"))?;
            ids.insert(old, new);
        }
        Ok(map)
    }

    pub(super) fn apply(&self, entry: &mut Entry) {
        entry.uid = self.users.get(&entry.uid).copied().unwrap_or(entry.uid);
        entry.gid = self.groups.get(&entry.gid).copied().unwrap_or(entry.gid);
    }

    /// Owners whose number is not of their name here, in words.
    pub(super) fn strangers(&self, captures: &[Capture]) -> Vec<String> {
        let (users, groups) = recorded(captures);
        let told = |owners: &[&Owner], here: Here, map: &BTreeMap<u32, u32>, what: &str| {
            let stranger = |owner: &&Owner| {
                let name = owner.name.as_ref()?;
                let becomes = map.get(&owner.id).copied().unwrap_or(owner.id);
                match here(name) {
                    Some(id) if id == becomes => None,
                    Some(id) if map.contains_key(&owner.id) => {
                        Some(format!("what the {what} {name} owned is to be {becomes}'s, and {name} is {id} here"))
                    }
                    Some(id) => Some(format!("the {what} {name} was {} and is {id} here", owner.id)),
                    None if map.contains_key(&owner.id) => None,
                    None => Some(format!("there is no {what} {name} here (it was {})", owner.id)),
                }
            };
            owners.iter().filter_map(stranger).collect::<Vec<_>>()
        };
        [told(&users, user_here, &self.users, "user"), told(&groups, group_here, &self.groups, "group")].concat()
    }
}

#[cfg(test)]
mod tests {
    use gullet_capture::capture::failed_capture;
    use gullet_capture::plan::PlannedPart;

    use super::*;

    fn captures(users: &[(u32, Option<&str>)]) -> Vec<Capture> {
        let spec: gullet_model::definition::Part = toml::from_str("name = \"docs\"\nfiles = [\"/x\"]").unwrap();
        let part = PlannedPart::of(spec).unwrap();
        let mut capture = failed_capture(&part, String::new(), jiff::Timestamp::UNIX_EPOCH);
        capture.users = users.iter().map(|(id, name)| Owner { id: *id, name: name.map(str::to_owned) }).collect();
        vec![capture]
    }

    #[test]
    fn owners_are_mapped_by_number_and_by_name() {
        let captures = captures(&[(777, Some("root")), (778, None), (779, Some("no-such-user"))]);
        let strangers = OwnerMap::default().strangers(&captures);
        assert!(
            strangers[0].contains("root was 777 and is 0 here") && strangers[1].contains("no user no-such-user"),
            "{strangers:?}"
        );
        assert_eq!(strangers.len(), 2, "a number without a name means nobody in particular");
        let by_name = OwnerMap::new(&[], true, &captures).unwrap();
        assert_eq!((by_name.users.get(&777), by_name.users.len()), (Some(&0), 1));
        let said = OwnerMap::new(&["no-such-user=root".to_owned()], true, &captures).unwrap();
        assert_eq!((said.users.get(&779), said.strangers(&captures).len()), (Some(&0), 0));
    }
}
