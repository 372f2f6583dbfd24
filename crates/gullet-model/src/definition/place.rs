//! Where a store lies: a folder of this machine, or a far place, by its location.

use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use url::Url;

use super::types::{SecretFile, SecretRun, StoreSpec};
use crate::reason::{Reason, ReasonAbout};

/// What may be written as a location.
pub const FORMS: &str =
    "an absolute folder, s3://BUCKET/PREFIX, sftp://USER@HOST/FOLDER, or https://HOST/FOLDER (WebDAV)";

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
pub enum StorePlace {
    /// A folder of this machine.
    Folder(PathBuf),
    /// A bucket of an object storage.
    Bucket {
        /// Its name.
        bucket: String,
        /// What all names begin with; empty for the whole bucket.
        prefix: String,
    },
    /// A folder of another machine, by SFTP.
    Ssh {
        /// The account there, where one is named.
        user: Option<String>,
        /// The machine, as `ssh` knows it.
        host: String,
        /// The port, where one is named.
        port: Option<u16>,
        /// The absolute path of the folder.
        folder: String,
    },
    /// A folder of a WebDAV server.
    Web {
        /// Its URL.
        url: String,
    },
}

impl StorePlace {
    /// Reads a location.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn parse(location: &str) -> Result<Self, Reason> {
        let Some((scheme, rest)) = location.split_once("://") else {
            let folder = super::source::plain(Path::new(location));
            return if folder.is_absolute() {
                Ok(Self::Folder(folder))
            } else {
                Err(Reason::new("it is no absolute folder"))
            };
        };
        match scheme {
            "s3" => Self::bucket(rest),
            "sftp" => Self::ssh(rest),
            "https" | "http" => Self::web(location),
            _ => Err(Reason::new(format!("`{scheme}://` is no place for a store"))),
        }
    }

    fn ssh(rest: &str) -> Result<Self, Reason> {
        let (machine, folder) = rest.split_once('/').ok_or_else(|| Reason::new("it names no folder"))?;
        let (user, machine) = machine.rsplit_once('@').map_or((None, machine), |(user, machine)| (Some(user), machine));
        // An address of IPv6 stands in brackets.
        let (host, port) = match machine
            .rsplit_once(':')
            .filter(|(host, _)| !host.starts_with('[') || host.ends_with(']'))
        {
            Some((host, port)) => (host, Some(port.parse().map_err(|_| Reason::new(format!("`{port}` is no port")))?)),
            None => (machine, None),
        };
        let host = host.trim_start_matches('[').trim_end_matches(']');
        let is_plain = |text: &str| !text.is_empty() && !text.starts_with('-') && !text.contains(char::is_whitespace);
        if user.is_some_and(|user| user.contains(':')) {
            return Err(Reason::new("a password does not belong here: `ssh` signs in with a key"));
        }
        if !is_plain(host) || !user.is_none_or(is_plain) {
            return Err(Reason::new("it names no machine"));
        }
        if folder.split('/').any(|part| matches!(part, "." | "..")) || folder.trim_matches('/').is_empty() {
            return Err(Reason::new("the folder is written from the root of the server on, without `.` and `..`"));
        }
        let folder = format!("/{}", folder.trim_matches('/'));
        Ok(Self::Ssh { user: user.map(str::to_owned), host: host.to_owned(), port, folder })
    }

    fn web(location: &str) -> Result<Self, Reason> {
        let url = Url::parse(location).about("it is no URL")?;
        if !url.username().is_empty() || url.password().is_some() {
            return Err(Reason::new("who signs in does not belong here: name it in `credentials`"));
        }
        if url.query().is_some() || url.fragment().is_some() {
            return Err(Reason::new("a folder's URL has no `?` and no `#`"));
        }
        Ok(Self::Web { url: String::from(url).trim_end_matches('/').to_owned() })
    }

    fn bucket(rest: &str) -> Result<Self, Reason> {
        let (bucket, prefix) = rest.split_once('/').unwrap_or((rest, ""));
        let prefix = prefix.trim_end_matches('/');
        let is_plain = |part: &str| {
            !part.is_empty() && part.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'-' | b'_'))
        };
        if !is_plain(bucket) {
            return Err(Reason::new("the bucket's name has letters, digits, `-`, `.` and `_`"));
        }
        let goes_up = |part: &str| matches!(part, "." | "..");
        if !prefix.is_empty() && !prefix.split('/').all(|part| is_plain(part) && !goes_up(part)) {
            return Err(Reason::new("the prefix has letters, digits, `-`, `.` and `_`, with `/` between them"));
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
            ("key_file", self.key_file.is_some()),
            ("known_hosts", self.known_hosts.is_some()),
            ("read_back", self.read_back.is_some()),
            ("limit", self.limit.is_some()),
            ("locked_for", self.locked_for.is_some()),
        ];
        written.into_iter().filter(|(_, is_written)| *is_written).map(|(key, _)| key).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn locations_are_read_and_what_is_none_is_refused() {
        let read = |location: &str| StorePlace::parse(location).map_err(String::from);
        let bucket =
            |bucket: &str, prefix: &str| Ok(StorePlace::Bucket { bucket: bucket.into(), prefix: prefix.into() });
        assert_eq!(read("/srv/depot"), Ok(StorePlace::Folder("/srv/depot".into())));
        assert_eq!(read("s3://depot"), bucket("depot", ""));
        assert_eq!(read("s3://depot/"), bucket("depot", ""));
        assert_eq!(read("s3://skerry.depot/quay/first/"), bucket("skerry.depot", "quay/first"));
        let ssh = |user: Option<&str>, host: &str, port, folder: &str| {
            Ok(StorePlace::Ssh { user: user.map(str::to_owned), host: host.into(), port, folder: folder.into() })
        };
        assert_eq!(
            read("sftp://quay@far.skerry.example:2022/srv/depot/"),
            ssh(Some("quay"), "far.skerry.example", Some(2022), "/srv/depot")
        );
        assert_eq!(read("sftp://far/depot"), ssh(None, "far", None, "/depot"));
        assert_eq!(read("sftp://[fe80::1]/depot"), ssh(None, "fe80::1", None, "/depot"));
        assert_eq!(read("sftp://[fe80::1]:22/depot"), ssh(None, "fe80::1", Some(22), "/depot"));
        for wrong in [
            "sftp://far",
            "sftp://far/",
            "sftp://-oProxyCommand=x/y",
            "sftp://a:b@far/x",
            "sftp://far:x/y",
            "sftp://far/../x",
        ] {
            assert!(read(wrong).is_err(), "{wrong}");
        }
        let web = |url: &str| Ok(StorePlace::Web { url: url.into() });
        assert_eq!(read("https://dav.skerry.example:8443/depot/"), web("https://dav.skerry.example:8443/depot"));
        assert_eq!(read("http://localhost"), web("http://localhost"));
        for wrong in ["https://", "https://a:b@dav.skerry.example/x", "https://dav.skerry.example/x?y", "http://a b/"] {
            assert!(read(wrong).is_err(), "{wrong}");
        }
        for wrong in
            ["depot", "", "ftp://x/y", "s3://", "s3:///quay", "s3://a b/c", "s3://a/../b", "s3://a//b", "S3://a"]
        {
            assert!(read(wrong).is_err(), "{wrong}");
        }
    }
}
