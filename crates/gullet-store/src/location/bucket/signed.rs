//! Requests of a bucket that are signed here: those that `object_store` does not know, and those that it makes and signs, once more
//! with the headers of a lock.

use std::time::Duration;

use data_encoding::{BASE64, HEXLOWER_PERMISSIVE};
use futures_executor::block_on;
use http_body_util::BodyExt;
use jiff::{SignedDuration, Timestamp};
use md5::{Digest, Md5};
use object_store::ClientOptions;
use object_store::aws::{AwsAuthorizer, AwsCredential};
use object_store::client::{
    HttpClient, HttpConnector, HttpError, HttpErrorKind, HttpRequest, HttpRequestBody, HttpResponse, HttpService,
};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use ureq::http::{HeaderMap, HeaderValue, Request, Response};

use super::super::versioned::with_margin;
use super::super::web::Web;

/// What stands in a URL as it is: what RFC 3986 calls unreserved.
const RESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');
/// The same for the path, whose parts are kept apart.
const RESERVED_IN_PATH: &AsciiSet = &RESERVED.remove(b'/');
/// What a place is tried with is locked for so long: it could not be removed otherwise.
const PROBE_LOCKED: Duration = Duration::from_secs(60);
pub(super) const MODE: &str = "x-amz-object-lock-mode";
pub(super) const UNTIL: &str = "x-amz-object-lock-retain-until-date";
/// The mode in which nobody can shorten a lock, not even the account that owns the bucket.
pub(super) const COMPLIANCE: &str = "COMPLIANCE";

/// A bucket that requests are made of and signed for.
#[derive(Clone)]
pub(super) struct Signed {
    pub(super) web: Web,
    pub(super) credential: std::sync::Arc<AwsCredential>,
    pub(super) region: String,
    /// The server's URL and the bucket's name.
    pub(super) url: String,
    /// For how long what is written is locked.
    pub(super) locked_for: Option<Duration>,
    /// What the paths begin with, as they stand in a URL, of what the place is tried with.
    pub(super) probes: String,
}

impl std::fmt::Debug for Signed {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "requests to {}", self.url)
    }
}

/// A question that `object_store` does not know.
pub(super) struct Asked<'a> {
    pub(super) method: &'a str,
    /// The object's key; empty for the bucket itself.
    pub(super) key: &'a str,
    /// Names and values after the question mark.
    pub(super) query: &'a [(&'a str, &'a str)],
    pub(super) headers: &'a [(&'static str, String)],
    pub(super) body: String,
}

impl Signed {
    fn sign(&self, request: &mut HttpRequest) -> Result<(), HttpError> {
        // What was computed of the body already is not computed again.
        let digest = request.headers().get("x-amz-content-sha256").and_then(|value| value.to_str().ok());
        let digest = digest.and_then(|text| HEXLOWER_PERMISSIVE.decode(text.as_bytes()).ok());
        let signer = AwsAuthorizer::new(&self.credential, "s3", &self.region);
        signer.try_authorize(request, digest.as_deref()).map_err(|error| HttpError::new(HttpErrorKind::Request, error))
    }

    /// The headers that lock what is written.
    fn lock(&self, path: &str, headers: &mut HeaderMap, now: Timestamp) {
        let Some(locked_for) = self.locked_for else { return };
        let long = if path.contains(&self.probes) { PROBE_LOCKED.min(locked_for) } else { with_margin(locked_for) };
        let until = now.saturating_add(SignedDuration::try_from(long).unwrap_or(SignedDuration::MAX)).unwrap_or(now);
        headers.insert(MODE, HeaderValue::from_static(COMPLIANCE));
        if let Ok(value) = written(until).parse() {
            headers.insert(UNTIL, value);
        }
    }

    /// Makes a request of the bucket's own protocol and gives its answer; what is put is locked.
    pub(super) fn ask(&self, asked: Asked<'_>) -> Result<Response<Vec<u8>>, HttpError> {
        let encoded = |text: &str| utf8_percent_encode(text, RESERVED).to_string();
        let query: Vec<String> = asked.query.iter().map(|(name, value)| format!("{name}={}", encoded(value))).collect();
        let query = if query.is_empty() { String::new() } else { format!("?{}", query.join("&")) };
        let mut request =
            Request::builder().method(asked.method).uri(format!("{}/{}{query}", self.url, in_path(asked.key)));
        for (name, value) in asked.headers {
            request = request.header(*name, value);
        }
        if !asked.body.is_empty() {
            request = request.header("content-md5", BASE64.encode(&Md5::digest(&asked.body)));
        }
        let request = request.body(HttpRequestBody::from(asked.body));
        let mut request = request.map_err(|error| HttpError::new(HttpErrorKind::Request, error))?;
        self.sign(&mut request)?;
        block_on(async {
            let (parts, body) = self.call(request).await?.into_parts();
            Ok(Response::from_parts(parts, body.collect().await?.to_bytes().into()))
        })
    }
}

/// A key as it stands in a URL.
pub(super) fn in_path(key: &str) -> String {
    utf8_percent_encode(key, RESERVED_IN_PATH).to_string()
}

/// A time as the protocol wants it, to the second.
pub(super) fn written(at: Timestamp) -> String {
    at.strftime("%Y-%m-%dT%H:%M:%SZ").to_string()
}

#[async_trait::async_trait]
impl HttpService for Signed {
    async fn call(&self, mut request: HttpRequest) -> Result<HttpResponse, HttpError> {
        // Only objects are put without anything after a question mark.
        if self.locked_for.is_some() && request.method() == "PUT" && request.uri().query().is_none() {
            let path = request.uri().path().to_owned();
            // It has just been signed, at this moment.
            let date = request.headers().get("x-amz-date").and_then(|value| value.to_str().ok());
            let signed = date.and_then(|text| jiff::civil::DateTime::strptime("%Y%m%dT%H%M%SZ", text).ok());
            if let Some(now) = signed.and_then(|at| jiff::tz::TimeZone::UTC.to_timestamp(at).ok()) {
                self.lock(&path, request.headers_mut(), now);
                let (mut parts, body) = request.into_parts();
                let bytes = body.collect().await?.to_bytes();
                // What is locked must come with a checksum, and this one is known everywhere.
                if let Ok(sum) = BASE64.encode(&Md5::digest(&bytes)).parse() {
                    parts.headers.insert("content-md5", sum);
                }
                request = HttpRequest::from_parts(parts, bytes.into());
                self.sign(&mut request)?;
            }
        }
        self.web.call(request).await
    }
}

impl HttpConnector for Signed {
    fn connect(&self, _: &ClientOptions) -> object_store::Result<HttpClient> {
        Ok(HttpClient::new(self.clone()))
    }
}
