//! Where a store lies: a folder of this machine, or a far place, by its location.

use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use url::Url;

use super::types::{SecretFile, SecretRun, StoreSpec};

/// What may be written as a location.
pub const FORMS: &str = "an absolute folder, s3://BUCKET/PREFIX, or https://HOST/FOLDER (WebDAV)";

/// Where the credentials of a far place come from: lines `NAME=VALUE`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum Credentials {
    /// A file that others cannot read.
    File(SecretFile),
    /// A command that prints them.
    Run(SecretRun),
}

/// Where a store lies.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Place {
    /// A folder of this machine.
    Folder(PathBuf),
    /// A bucket of an object storage.
    Bucket {
        /// Its name.
        bucket: String,
        /// What all names begin with; empty for the whole bucket.
        prefix: String,
    },
    /// A folder of a WebDAV server.
    Web {
        /// Its URL.
        url: String,
    },
}

impl Place {
    /// Reads a location.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn parse(location: &str) -> Result<Self, String> {
        let Some((scheme, rest)) = location.split_once("://") else {
            let folder = PathBuf::from(location);
            return if folder.is_absolute() {
                Ok(Self::Folder(folder))
            } else {
                Err("it is no absolute folder".to_owned())
            };
        };
        match scheme {
            "s3" => Self::bucket(rest),
            "https" | "http" => Self::web(location),
            _ => Err(format!("`{scheme}://` is no place for a store")),
        }
    }

    fn web(location: &str) -> Result<Self, String> {
        let url = Url::parse(location).map_err(|error| format!("it is no URL: {error}"))?;
        if !url.username().is_empty() || url.password().is_some() {
            return Err("who signs in does not belong here: name it in `credentials`".to_owned());
        }
        if url.query().is_some() || url.fragment().is_some() {
            return Err("a folder's URL has no `?` and no `#`".to_owned());
        }
        Ok(Self::Web { url: String::from(url).trim_end_matches('/').to_owned() })
    }

    fn bucket(rest: &str) -> Result<Self, String> {
        let (bucket, prefix) = rest.split_once('/').unwrap_or((rest, ""));
        let prefix = prefix.trim_end_matches('/');
        let is_plain = |part: &str| {
            !part.is_empty() && part.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'-' | b'_'))
        };
        if !is_plain(bucket) {
            return Err("the bucket's name has letters, digits, `-`, `.` and `_`".to_owned());
        }
        let goes_up = |part: &str| matches!(part, "." | "..");
        if !prefix.is_empty() && !prefix.split('/').all(|part| is_plain(part) && !goes_up(part)) {
            return Err("the prefix has letters, digits, `-`, `.` and `_`, with `/` between them".to_owned());
        }
        Ok(Self::Bucket { bucket: bucket.to_owned(), prefix: prefix.to_owned() })
    }
}

impl StoreSpec {
    /// The folder of a store on this machine; none where it lies elsewhere.
    pub fn folder(&self) -> Option<&Path> {
        (!self.location.contains("://")).then(|| Path::new(&self.location))
    }

    /// The keys that are written and mean something only for a far place.
    pub fn far_keys(&self) -> Vec<&'static str> {
        let written = [
            ("endpoint", self.endpoint.is_some()),
            ("region", self.region.is_some()),
            ("credentials", self.credentials.is_some()),
            ("authority", self.authority.is_some()),
            ("limit", self.limit.is_some()),
        ];
        written.into_iter().filter(|(_, is_written)| *is_written).map(|(key, _)| key).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn locations_are_read_and_what_is_none_is_refused() {
        let bucket = |bucket: &str, prefix: &str| Ok(Place::Bucket { bucket: bucket.into(), prefix: prefix.into() });
        assert_eq!(Place::parse("/srv/depot"), Ok(Place::Folder("/srv/depot".into())));
        assert_eq!(Place::parse("s3://depot"), bucket("depot", ""));
        assert_eq!(Place::parse("s3://depot/"), bucket("depot", ""));
        assert_eq!(Place::parse("s3://skerry.depot/quay/first/"), bucket("skerry.depot", "quay/first"));
        let web = |url: &str| Ok(Place::Web { url: url.into() });
        assert_eq!(
            Place::parse("https://dav.skerry.example:8443/depot/"),
            web("https://dav.skerry.example:8443/depot")
        );
        assert_eq!(Place::parse("http://localhost"), web("http://localhost"));
        for wrong in ["https://", "https://a:b@dav.skerry.example/x", "https://dav.skerry.example/x?y", "http://a b/"] {
            assert!(Place::parse(wrong).is_err(), "{wrong}");
        }
        for wrong in
            ["depot", "", "ftp://x/y", "s3://", "s3:///quay", "s3://a b/c", "s3://a/../b", "s3://a//b", "S3://a"]
        {
            assert!(Place::parse(wrong).is_err(), "{wrong}");
        }
    }
}
