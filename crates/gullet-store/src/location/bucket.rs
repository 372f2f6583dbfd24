//! Objects in a bucket of an object storage that speaks the protocol of S3.
//!
//! `object_store` says and signs what is asked, and [`super::web`] asks it. An object is created with `If-None-Match: *`, so that one
//! that is there is never replaced. Some servers do not know that and some ignore it; there the names carry the safety, which all but
//! `store.json` and a machine's registration have for themselves alone (FORMAT.md).

use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use bytes::Bytes;
use data_encoding::HEXLOWER;
use futures_executor::block_on;
use futures_util::TryStreamExt;
use md5::{Digest, Md5};
use object_store::aws::{AmazonS3, AmazonS3Builder, AwsCredential, Checksum};
use object_store::{ClientOptions, ObjectStore, PutMode, PutOptions, PutResult, RetryConfig};

mod signed;
mod versions;

use signed::Signed;

use super::keyed::Keyed;
use super::remote::{Remote, Requests};
use super::versioned::Versioned;
use super::web::{self, Web, failure_in};
use super::{Location, ObjectInfo, PROBES};
use crate::error::{PathError, StoreError};

/// A bucket, and how it is reached.
#[derive(Clone, Debug, Default)]
pub struct BucketPlace {
    /// The bucket's name.
    pub bucket: String,
    /// What the names of all objects begin with; empty for the whole bucket.
    pub prefix: String,
    /// The server's URL.
    pub endpoint: String,
    /// The region, which is part of what is signed; `us-east-1` where a server has none.
    pub region: String,
    /// The access key.
    pub key: String,
    /// The secret key.
    pub secret: String,
    /// A token, where the credentials are for a while only.
    pub token: Option<String>,
    /// The certificate (PEM) of the authority that certifies the server, where it is none of the usual ones.
    pub authority: Option<Vec<u8>>,
    /// How long the server may be silent.
    pub limit: Duration,
    /// How long what is written is locked against everybody.
    pub locked_for: Option<Duration>,
}

impl BucketPlace {
    /// As [`Location::address`]: another server may have a bucket of this name.
    pub fn address(&self) -> String {
        format!("{} at {}", shown(self), self.url())
    }

    /// The server's URL with the bucket's name.
    fn url(&self) -> String {
        format!("{}/{}", self.endpoint.trim_end_matches('/'), self.bucket)
    }
}

/// The place's name, as a person would write it.
fn shown(place: &BucketPlace) -> String {
    if place.prefix.is_empty() {
        format!("s3://{}", place.bucket)
    } else {
        format!("s3://{}/{}", place.bucket, place.prefix)
    }
}

/// Objects in a bucket.
///
/// # Errors
/// When the place is described in a way that no request could be made. Nothing is asked yet.
pub fn bucket(place: &BucketPlace) -> Result<Arc<dyn Location>, StoreError> {
    let wrong = |error: std::io::Error| StoreError::Io(PathError::new(shown(place), error));
    let web = Web::new(place.limit, place.authority.as_deref()).map_err(wrong)?;
    let credential =
        AwsCredential { key_id: place.key.clone(), secret_key: place.secret.clone(), token: place.token.clone() };
    let signed = Signed {
        web,
        credential: Arc::new(credential),
        region: place.region.clone(),
        probes: format!(
            "/{}",
            signed::in_path(&format!("{}/{}/{PROBES}", place.bucket, place.prefix).replace("//", "/"))
        ),
        url: place.url(),
        locked_for: place.locked_for,
    };
    let mut builder = AmazonS3Builder::new()
        .with_bucket_name(&place.bucket)
        .with_endpoint(place.endpoint.trim_end_matches('/'))
        .with_region(&place.region)
        .with_access_key_id(&place.key)
        .with_secret_access_key(&place.secret)
        .with_allow_http(true)
        .with_virtual_hosted_style_request(false)
        .with_checksum_algorithm(Checksum::SHA256)
        .with_client_options(ClientOptions::new().with_allow_http(true))
        // What may pass is tried again below this, where it is known what went wrong.
        .with_retry(RetryConfig { max_retries: 0, ..RetryConfig::default() })
        .with_http_connector(signed.clone());
    if let Some(token) = &place.token {
        builder = builder.with_token(token);
    }
    let store = builder.build().map_err(|error| wrong(std::io::Error::other(error)))?;
    let objects = Keyed::new(store, place.prefix.clone(), shown(place));
    let (name, address) = (place.bucket.clone(), place.address());
    let bucket = Bucket { objects, signed, name, address, creates_only: AtomicBool::new(true) };
    Ok(Arc::new(Remote::new(Arc::new(bucket))))
}

struct Bucket {
    objects: Keyed<AmazonS3>,
    /// For what `object_store` does not know.
    signed: Signed,
    /// The bucket's name.
    name: String,
    address: String,
    /// Whether the server knows how to create only what is not there, as far as is known.
    creates_only: AtomicBool,
}

impl Bucket {
    fn put_as(&self, name: &str, bytes: &Bytes, mode: PutMode) -> Result<PutResult, object_store::Error> {
        block_on(self.objects.store.put_opts(&self.objects.key(name), bytes.clone().into(), PutOptions::from(mode)))
    }

    /// Why an object could not be put. A server says of a bucket that cannot lock that the request is wrong, and some say no more.
    fn not_put(&self, name: &str, error: object_store::Error) -> StoreError {
        match failure_in(&error) {
            Some(failure @ web::RequestFailure::Refused { status: 400, .. }) if self.signed.locked_for.is_some() => {
                let said = failure.to_string();
                let text = format!("{}; can the bucket lock (object lock)?", said.trim_end_matches([':', ' ']));
                self.objects.in_words(name, std::io::Error::other(text))
            }
            _ => self.objects.failed(name, error),
        }
    }

    /// Whether what arrived is what was sent. Nearly all servers give the MD5 of what they stored as the object's tag; where the tag
    /// is another one, as with encryption by the server, the object is read back.
    fn arrived(&self, name: &str, bytes: &Bytes, put: &PutResult) -> Result<(), StoreError> {
        let tag = put.e_tag.as_deref().unwrap_or_default().trim_matches('"');
        if tag.eq_ignore_ascii_case(&HEXLOWER.encode(&Md5::digest(bytes))) || self.whole(name)? == *bytes {
            return Ok(());
        }
        // It is not removed: where a server lets several writers have one name it may be another one's.
        let what = "the server has other bytes than were sent".to_owned();
        Err(StoreError::Damaged { name: name.to_owned(), what })
    }
}

impl Requests for Bucket {
    fn checks_what_arrives(&self) -> bool {
        true
    }

    fn describe(&self) -> String {
        self.objects.shown().to_owned()
    }

    fn address(&self) -> String {
        self.address.clone()
    }

    fn versioned(&self) -> Option<&dyn Versioned> {
        Some(self)
    }

    fn list(&self, prefix: &str) -> Result<Vec<ObjectInfo>, StoreError> {
        let below = self.objects.key(prefix);
        let listed = self
            .objects
            .store
            .list(Some(&below))
            .map_ok(|object| ObjectInfo { name: self.objects.name_of(&object.location), length: object.size });
        block_on(listed.try_collect()).map_err(|error| self.objects.failed(prefix, error))
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
        if self.creates_only.load(Ordering::Relaxed) {
            match self.put_as(name, bytes, PutMode::Create) {
                Ok(put) => return self.arrived(name, bytes, &put),
                // The answer to an earlier attempt was lost: then it is ours.
                Err(object_store::Error::AlreadyExists { .. })
                    if web::was_repeated() && self.whole(name).is_ok_and(|there| there == *bytes) =>
                {
                    return Ok(());
                }
                Err(error) if is_unknown(&error) => self.creates_only.store(false, Ordering::Relaxed),
                Err(error) => return Err(self.not_put(name, error)),
            }
        }
        if self.length(name)?.is_some() {
            return Err(StoreError::Exists { name: name.to_owned() });
        }
        let put = self.put_as(name, bytes, PutMode::Overwrite).map_err(|error| self.not_put(name, error))?;
        self.arrived(name, bytes, &put)
    }

    fn remove(&self, name: &str) -> Result<(), StoreError> {
        // Removing what is not there is no error to the protocol.
        self.objects.remove(name)
    }
}

/// Whether a server says that it does not know how to create only what is not there.
fn is_unknown(error: &object_store::Error) -> bool {
    matches!(failure_in(error), Some(web::RequestFailure::Refused { status: 501, .. }))
}
