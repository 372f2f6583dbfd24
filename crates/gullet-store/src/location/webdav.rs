//! Objects as files on a server that speaks WebDAV (RFC 4918).
//!
//! `object_store` says what is asked, and [`super::web`] asks it. An object is sent under a name of its own, read back, and then moved to
//! its name, which must not be there. Of writers of one name at the same moment some servers let more than one do that; the names carry
//! the safety there, as in FORMAT.md. Folders are listed one by one, since most servers refuse to list a tree.

use std::io;
use std::ops::Range;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use futures_executor::block_on;
use object_store::http::{HttpBuilder, HttpStore};
use object_store::{ClientOptions, ObjectStore, ObjectStoreExt, RetryConfig};

use ureq::http::StatusCode;
use url::Url;

use super::keyed::Keyed;
use super::remote::{KnownFolders, Remote, Requests, incoming};
use super::web::{self, RequestFailure, Web};
use super::{INCOMING, Location, ObjectInfo, flattened};
use crate::error::{PathError, StoreError};

/// A folder on a WebDAV server, and how it is reached.
#[derive(Clone, Debug, Default)]
pub struct WebFolderPlace {
    /// The URL of the folder.
    pub url: String,
    /// Who signs in, with the password; nobody where the server asks for nobody.
    pub sign_in: Option<(String, String)>,
    /// The certificate (PEM) of the authority that certifies the server, where it is none of the usual ones.
    pub authority: Option<Vec<u8>>,
    /// How long the server may be silent.
    pub limit: Duration,
}

/// Objects in a folder of a WebDAV server.
///
/// # Errors
/// When the place is described in a way that no request could be made. Nothing is asked yet.
pub fn web_folder(place: &WebFolderPlace) -> Result<Arc<dyn Location>, StoreError> {
    let url = place.url.trim_end_matches('/').to_owned();
    let wrong = |error: io::Error| StoreError::Io(PathError::new(&url, error));
    let mut web = Web::new(place.limit, place.authority.as_deref()).map_err(wrong)?;
    if let Some((user, password)) = &place.sign_in {
        web = web.signed_in(user, password);
    }
    // What is listed is named from the server's root on.
    let parsed = Url::parse(&url).map_err(|error| wrong(io::Error::other(error)))?;
    let base = percent_encoding::percent_decode_str(parsed.path().trim_matches('/')).decode_utf8_lossy().into_owned();
    let store = HttpBuilder::new()
        .with_url(parsed.join("/").map_err(|error| wrong(io::Error::other(error)))?)
        .with_client_options(ClientOptions::new().with_allow_http(true))
        .with_retry(RetryConfig { max_retries: 0, ..RetryConfig::default() })
        .with_http_connector(web.clone())
        .build()
        .map_err(|error| wrong(io::Error::other(error)))?;
    Ok(Arc::new(Remote::new(Arc::new(WebFolder {
        objects: Keyed::new(store, base, url),
        web,
        folders: KnownFolders::default(),
    }))))
}

struct WebFolder {
    objects: Keyed<HttpStore>,
    web: Web,
    folders: KnownFolders,
}

impl WebFolder {
    fn url_of(&self, name: &str) -> String {
        format!("{}/{name}", self.objects.shown())
    }

    /// Makes the folders above a name, those that were not made before.
    fn make_folders(&self, name: &str) -> Result<(), RequestFailure> {
        self.folders.make(name, |folder| self.web.make_folder(&self.url_of(folder)))
    }

    /// Gives what was sent its name, in one step, and never another object's.
    fn publish(&self, incoming: &str, name: &str, bytes: &Bytes) -> Result<(), StoreError> {
        let refused = |failure: RequestFailure| PathError::new(self.url_of(name), failure.into_io());
        self.make_folders(name).map_err(refused)?;
        let moved = self.web.rename(&self.url_of(incoming), &self.url_of(name)).map_err(|failure| {
            // Perhaps somebody removed a folder meanwhile.
            self.folders.forget();
            refused(failure)
        })?;
        match moved {
            status if status.is_success() => Ok(()),
            // The answer to an earlier attempt was lost: then it is there, and it is ours.
            StatusCode::NOT_FOUND | StatusCode::PRECONDITION_FAILED
                if web::was_repeated() && self.whole(name).is_ok_and(|there| there == *bytes) =>
            {
                Ok(())
            }
            StatusCode::PRECONDITION_FAILED => Err(StoreError::Exists { name: name.to_owned() }),
            status => {
                let what = format!("the server does not give it its name: status {status}");
                Err(PathError::new(self.url_of(name), io::Error::other(what)).into())
            }
        }
    }
}

impl Requests for WebFolder {
    fn checks_what_arrives(&self) -> bool {
        true
    }

    fn describe(&self) -> String {
        self.objects.shown().to_owned()
    }

    fn list(&self, prefix: &str) -> Result<Vec<ObjectInfo>, StoreError> {
        let mut found = Vec::new();
        let mut folders = vec![prefix.trim_end_matches('/').to_owned()];
        while let Some(folder) = folders.pop() {
            let listed = block_on(self.objects.store.list_with_delimiter(Some(&self.objects.key(&folder))));
            let listed = listed.map_err(|error| self.objects.failed(&folder, error))?;
            let further = listed.common_prefixes.iter().map(|key| self.objects.name_of(key));
            folders.extend(further.filter(|name| *name != folder && !name.starts_with('.')));
            let objects = listed.objects.iter();
            found.extend(
                objects.map(|object| ObjectInfo { name: self.objects.name_of(&object.location), length: object.size }),
            );
        }
        Ok(found)
    }

    fn length(&self, name: &str) -> Result<Option<u64>, StoreError> {
        self.objects.length(name)
    }

    fn range(&self, name: &str, range: Range<u64>) -> Result<Vec<u8>, StoreError> {
        self.objects.range(name, range)
    }

    fn tail(&self, name: &str, most: u64) -> Result<(u64, Vec<u8>), StoreError> {
        self.objects.tail(name, most)
    }

    fn whole(&self, name: &str) -> Result<Vec<u8>, StoreError> {
        self.objects.whole(name)
    }

    fn put(&self, name: &str, bytes: &Bytes) -> Result<(), StoreError> {
        if self.length(name)?.is_some() {
            return Err(StoreError::Exists { name: name.to_owned() });
        }
        let incoming = incoming(name);
        self.make_folders(&incoming).map_err(|failure| PathError::new(self.url_of(INCOMING), failure.into_io()))?;
        let put = block_on(self.objects.store.put(&self.objects.key(&incoming), bytes.clone().into()));
        put.map_err(|error| self.objects.failed(name, error))?;
        // There is no checksum in this protocol: it is read back before anybody can see it.
        let published = match self.whole(&incoming) {
            Ok(there) if there == *bytes => self.publish(&incoming, name, bytes),
            Ok(_) => {
                let what = "the server had other bytes than were sent; they were removed".to_owned();
                Err(StoreError::Damaged { name: name.to_owned(), what })
            }
            Err(error) => Err(error),
        };
        if published.is_err() {
            let _ = self.objects.remove(&incoming);
        }
        published
    }

    fn remove(&self, name: &str) -> Result<(), StoreError> {
        self.objects.remove(name)
    }

    fn discard_unpublished(&self, prefix: &str, is_dead: bool) -> Result<(), StoreError> {
        // How old something is only the server's clock knows; what is just being sent stays.
        if !is_dead {
            return Ok(());
        }
        let prefix = format!("{INCOMING}/{}", flattened(prefix));
        let listed = block_on(self.objects.store.list_with_delimiter(Some(&self.objects.key(INCOMING))));
        let listed = listed.map_err(|error| self.objects.failed(INCOMING, error))?;
        let names = listed.objects.iter().map(|object| self.objects.name_of(&object.location));
        names.filter(|name| name.starts_with(&prefix)).try_for_each(|name| self.objects.remove(&name))
    }

    fn prepare(&self) -> Result<(), StoreError> {
        let refused = |failure: RequestFailure| PathError::new(self.objects.shown(), failure.into_io());
        Ok(self.web.make_folder(self.objects.shown()).map_err(refused)?)
    }
}
