//! The place of a store as the definition describes it, ready to be used.

use std::collections::BTreeMap;
use std::fs;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use gullet_model::Reason;
use gullet_model::definition::{StorePlace, StoreSpec};
use gullet_model::words::chain;
use gullet_store::{
    BucketPlace, Folder, Location, PathError, SshFolderPlace, StoreError, WebFolderPlace, bucket, ssh_folder,
    web_folder,
};

use crate::hook::secret::{self, SecretError};

/// How long a server may be silent where the definition does not say.
const LIMIT: Duration = Duration::from_secs(60);
/// What credentials are named in requests to a bucket: the usual environment variables of the protocol.
const KEY: &str = "AWS_ACCESS_KEY_ID";
const SECRET: &str = "AWS_SECRET_ACCESS_KEY";
const TOKEN: &str = "AWS_SESSION_TOKEN";
/// The same of WebDAV.
const USER: &str = "WEBDAV_USER";
const PASSWORD: &str = "WEBDAV_PASSWORD";

/// A place cannot be used as the definition describes it.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PlaceError {
    /// The location is none.
    #[error("`{location}`: {why}")]
    Location {
        /// What is written.
        location: String,
        /// What is wrong with it.
        why: Reason,
    },
    /// It is not said on which server the bucket is.
    #[error("`{location}`: it is not said which server has the bucket (`endpoint`, or AWS_ENDPOINT_URL)")]
    NoEndpoint {
        /// The location as it was written.
        location: String,
    },
    /// The credentials cannot be had.
    #[error(transparent)]
    Secret(#[from] SecretError),
    /// A line of the credentials is none.
    #[error("the credentials of `{location}`, line {line}: write NAME=VALUE with one of the names {known}")]
    Line {
        /// The location as it was written.
        location: String,
        /// The line's number, from 1.
        line: usize,
        /// The names that there are.
        known: String,
    },
    /// A credential is missing.
    #[error("the credentials of `{location}` have no {name}")]
    NoCredential {
        /// The location as it was written.
        location: String,
        /// What is missing.
        name: &'static str,
    },
    /// The certificate of the authority cannot be read.
    #[error("cannot read `{}`", path.display())]
    Authority {
        /// The file with the credentials.
        path: PathBuf,
        /// What the system said.
        #[source]
        source: std::io::Error,
    },
    /// The store cannot be used so.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl From<PlaceError> for StoreError {
    fn from(error: PlaceError) -> Self {
        match error {
            PlaceError::Store(error) => error,
            PlaceError::Location { ref location, .. }
            | PlaceError::NoEndpoint { ref location }
            | PlaceError::Line { ref location, .. }
            | PlaceError::NoCredential { ref location, .. } => {
                PathError::new(location.clone(), std::io::Error::other(chain(&error))).into()
            }
            PlaceError::Secret(_) => PathError::new("the credentials", std::io::Error::other(chain(&error))).into(),
            PlaceError::Authority { path, source } => PathError::new(path, source).into(),
        }
    }
}

/// The place of a store. Nothing is asked of a server yet.
///
/// # Errors
/// When something that is needed to reach it is missing or cannot be read.
pub fn location_of(spec: &StoreSpec, environment: &BTreeMap<String, String>) -> Result<Arc<dyn Location>, PlaceError> {
    let location = || spec.location.clone();
    let place = StorePlace::parse(&spec.location).map_err(|why| PlaceError::Location { location: location(), why })?;
    let authority = spec
        .authority
        .as_ref()
        .map(|path| fs::read(path).map_err(|source| PlaceError::Authority { path: path.clone(), source }));
    let authority = authority.transpose()?;
    let limit = spec.limit.map_or(LIMIT, |limit| limit.0);
    match place {
        StorePlace::Folder(folder) => Ok(Arc::new(Folder::new(folder))),
        StorePlace::Ssh { user, host, port, folder } => {
            let (key_file, known_hosts) = (spec.key_file.clone(), spec.known_hosts.clone());
            let shown = spec.location.trim_end_matches('/').to_owned();
            Ok(ssh_folder(SshFolderPlace { shown, user, host, port, folder, key_file, known_hosts, limit }))
        }
        StorePlace::Web { url } => {
            let said = credentials(spec, &[USER, PASSWORD], environment)?;
            let sign_in = said.get(USER).map(|user| (user.clone(), said.get(PASSWORD).cloned().unwrap_or_default()));
            Ok(web_folder(&WebFolderPlace { url, sign_in, authority, limit })?)
        }
        StorePlace::Bucket { bucket: name, prefix } => {
            let said = credentials(spec, &[KEY, SECRET, TOKEN], environment)?;
            let of = |name: &'static str| {
                said.get(name).cloned().ok_or_else(|| PlaceError::NoCredential { location: location(), name })
            };
            let place = BucketPlace {
                key: of(KEY)?,
                secret: of(SECRET)?,
                token: said.get(TOKEN).cloned(),
                authority,
                limit,
                ..bucket_of(spec, (name, prefix), environment)?
            };
            Ok(bucket(&place)?)
        }
    }
}

/// A bucket that locks what is written there: under what its locks are known, and for how long it locks. No credentials are asked
/// for.
pub fn locking(spec: &StoreSpec, environment: &BTreeMap<String, String>) -> Option<(String, Duration)> {
    let locked_for = spec.locked_for?.0;
    let Ok(StorePlace::Bucket { bucket, prefix }) = StorePlace::parse(&spec.location) else { return None };
    Some((bucket_of(spec, (bucket, prefix), environment).ok()?.address(), locked_for))
}

/// A bucket without the credentials that open it.
fn bucket_of(
    spec: &StoreSpec,
    (bucket, prefix): (String, String),
    environment: &BTreeMap<String, String>,
) -> Result<BucketPlace, PlaceError> {
    let endpoint = spec.endpoint.as_ref().or_else(|| environment.get("AWS_ENDPOINT_URL"));
    let region = spec.region.as_ref().or_else(|| environment.get("AWS_REGION"));
    Ok(BucketPlace {
        bucket,
        prefix,
        endpoint: endpoint.cloned().ok_or_else(|| PlaceError::NoEndpoint { location: spec.location.clone() })?,
        region: region.cloned().unwrap_or_else(|| "us-east-1".to_owned()),
        locked_for: spec.locked_for.map(|span| span.0),
        ..BucketPlace::default()
    })
}

/// The credentials of a far place: those that the definition leads to, and without any the environment's.
fn credentials(
    spec: &StoreSpec,
    names: &[&str],
    environment: &BTreeMap<String, String>,
) -> Result<BTreeMap<String, String>, PlaceError> {
    let Some(from) = &spec.credentials else { return Ok(environment.clone()) };
    let text = secret::credentials(&spec.location, from)?;
    let mut found = BTreeMap::new();
    for (number, line) in text.lines().enumerate() {
        let line = line.trim();
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        let pair = line.split_once('=').map(|(name, value)| (name.trim(), value.trim()));
        let Some((name, value)) = pair.filter(|(name, _)| names.contains(name)) else {
            let (location, known) = (spec.location.clone(), names.join(", "));
            return Err(PlaceError::Line { location, line: number + 1, known });
        };
        found.insert(name.to_owned(), value.to_owned());
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use super::*;

    fn spec(more: &str) -> StoreSpec {
        toml::from_str(&format!("location = \"s3://depot/quay\"\n{more}")).unwrap()
    }

    fn refused(spec: &StoreSpec, environment: &[(&str, &str)]) -> String {
        let environment = environment.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect();
        location_of(spec, &environment).map(drop).unwrap_err().to_string()
    }

    #[test]
    fn credentials_come_from_a_private_file_a_command_or_the_environment() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("far");
        let of_file = spec(&format!("endpoint = \"http://localhost\"\ncredentials = {{ file = {path:?} }}"));
        let write = |text: &str, mode| {
            fs::write(&path, text).unwrap();
            fs::set_permissions(&path, fs::Permissions::from_mode(mode)).unwrap();
        };
        let both = "# of the depot\nAWS_ACCESS_KEY_ID = AK\n\nAWS_SECRET_ACCESS_KEY=S=K\n";
        write(both, 0o600);
        assert_eq!(location_of(&of_file, &BTreeMap::new()).unwrap().describe(), "s3://depot/quay");
        write(both, 0o644);
        assert!(refused(&of_file, &[]).contains("can be read by others"));
        write("AWS_ACCESS_KEY_ID=AK\n", 0o600);
        assert_eq!(refused(&of_file, &[]), "the credentials of `s3://depot/quay` have no AWS_SECRET_ACCESS_KEY");
        write("AWS_ACCESS_KEY_ID=AK\nSecret=SK\n", 0o600);
        assert!(refused(&of_file, &[]).contains("line 2: write NAME=VALUE with one of the names AWS_ACCESS_KEY_ID"));
        let of_command = spec(
            "endpoint = \"http://localhost\"\ncredentials = { run = [\"printf\", 'AWS_ACCESS_KEY_ID=A\\nAWS_SECRET_ACCESS_KEY=S\\n'] }",
        );
        assert!(location_of(&of_command, &BTreeMap::new()).is_ok());
        let keys = [(KEY, "AK"), (SECRET, "SK")];
        assert!(refused(&spec(""), &keys).contains("which server has the bucket"));
        assert!(
            refused(&spec("endpoint = \"http://localhost\""), &keys[..1]).contains("have no AWS_SECRET_ACCESS_KEY")
        );
        let all = [keys[0], keys[1], ("AWS_ENDPOINT_URL", "http://localhost")];
        let environment = all.map(|(name, value)| (name.to_owned(), value.to_owned())).into();
        assert!(location_of(&spec(""), &environment).is_ok());
    }
}
