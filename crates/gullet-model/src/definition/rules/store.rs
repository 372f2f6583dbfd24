//! Rules of stores.

use super::super::check::nearest;
use super::super::flaw::key_path;
use super::Rules;
use crate::definition::{App, CaptureMethod, Definition, FORMS, StorePlace, StoreSpec};

impl Rules<'_> {
    /// Where a store lies, and the keys that belong to such a place.
    pub(super) fn place(&mut self, name: &str, store: &StoreSpec) {
        let at = |key: &str| key_path(&[&"store", &name, &key]);
        let place = match StorePlace::parse(&store.location) {
            Ok(place) => place,
            Err(why) => return self.flaw(&at("location"), why.to_string(), Some(format!("write {FORMS}"))),
        };
        if store.must_be_mounted && !matches!(place, StorePlace::Folder(_)) {
            self.flaw(&at("must_be_mounted"), "only a folder can be a mount point".to_owned(), None);
        }
        let (is_bucket, is_ssh) = (matches!(place, StorePlace::Bucket { .. }), matches!(place, StorePlace::Ssh { .. }));
        let is_folder = matches!(place, StorePlace::Folder(_));
        for key in store.far_keys().into_iter().filter(|_| !is_folder) {
            let (is_wrong, owner) = match key {
                "endpoint" | "region" | "locked_for" => (!is_bucket, "a bucket"),
                "key_file" | "known_hosts" | "read_back" => (!is_ssh, "a place that is reached by SFTP"),
                _ => continue,
            };
            if is_wrong {
                self.flaw(&at(key), format!("only {owner} has such a key"), None);
            }
        }
        match place {
            StorePlace::Folder(_) => {
                for key in store.far_keys() {
                    self.flaw(
                        &at(key),
                        "the store is a folder of this machine, which has no such key".to_owned(),
                        None,
                    );
                }
            }
            StorePlace::Web { .. } => {}
            StorePlace::Ssh { .. } => {
                for key in store.far_keys().into_iter().filter(|key| matches!(*key, "credentials" | "authority")) {
                    let hint = "key_file = \"/etc/gullet/far_ed25519\"".to_owned();
                    self.flaw(&at(key), "`ssh` signs in with a key".to_owned(), Some(hint));
                }
            }
            StorePlace::Bucket { .. } => {
                let is_url = |url: &String| url.starts_with("https://") || url.starts_with("http://");
                let hint = "endpoint = \"https://objects.skerry.example\"".to_owned();
                match &store.endpoint {
                    None => {
                        let message = "it is not said which server has the bucket".to_owned();
                        self.flaw(&at("location"), message, Some(hint));
                    }
                    Some(url) if !is_url(url) => {
                        self.flaw(&at("endpoint"), "it is no URL of a server".to_owned(), Some(hint));
                    }
                    Some(_) => {}
                }
            }
        }
    }

    /// What is read at once is stored while the application is held, which takes as long as a network does.
    pub(super) fn capture_method(&mut self, definition: &Definition, name: &str, app: &App) {
        let is_far = definition.store_of(name).is_some_and(|(_, store)| store.folder().is_none());
        if is_far && app.capture_method == Some(CaptureMethod::Stream) && !app.hold.is_empty() {
            let message =
                "`stream` would send what it reads while the application is held, for its store is far".to_owned();
            let hint = "capture_method = \"copy\", or a store on this machine with the far one as its copy".to_owned();
            self.flaw(&key_path(&[&"app", &name, &"capture_method"]), message, Some(hint));
        }
    }

    /// The copies of a store are stores of the definition that are nothing else.
    pub(super) fn copies(&mut self, definition: &Definition, name: &str, store: &StoreSpec) {
        for (number, copy) in store.copies.iter().enumerate() {
            let at = key_path(&[&"store", &name, &"copies", &number]);
            let text = match definition.store.get(copy) {
                None => {
                    let hint = nearest(copy, definition.store.keys().map(String::as_str));
                    let hint = hint.map(|name| format!("did you mean `{name}`?"));
                    self.flaw(&at, format!("there is no store `{copy}`"), hint);
                    continue;
                }
                Some(_) if copy == name => "a store is no copy of itself".to_owned(),
                Some(spec) if !spec.copies.is_empty() => format!("`{copy}` is a copy, and has copies of its own"),
                Some(_) if definition.copied_from(copy).is_some_and(|(first, _)| first != name) => {
                    format!("`{copy}` is a copy of another store already")
                }
                Some(_) => continue,
            };
            self.flaw(&at, text, None);
        }
    }
}
