//! Requests over HTTP for places that are reached so: with limits, with repetition of what may pass, and with what went wrong as a
//! value. `ureq` makes them, as it makes all of this program's requests; `object_store` says what to ask.
//!
//! A server that is silent for as long as the limit says is an error, whatever it is doing: each piece that is read or written has
//! that limit. What may pass (no connection, a broken one, 408, 429, 500, 502, 503, 504) is tried again after pauses that grow and
//! are partly left to chance, so that many machines do not come back at once.

use std::cell::Cell;
use std::fmt;
use std::io::{self, Read};
use std::time::Duration;

use http_body_util::BodyExt;
use object_store::ClientOptions;
use object_store::client::{
    HttpClient, HttpConnector, HttpError, HttpErrorKind, HttpRequest, HttpResponse, HttpResponseBody, HttpService,
};
use ureq::http::{Request, Response, StatusCode, header};
use ureq::tls::{Certificate, RootCerts, TlsConfig};
use ureq::{Agent, Timeout};

/// So often a request is made before it is given up.
const ATTEMPTS: u32 = 6;
/// The first pause is this part of the limit; each is twice as long as the one before.
const FIRST_PAUSE: u32 = 300;
/// No pause is longer than this part of the limit.
const LONGEST_PAUSE: u32 = 8;
/// No answer is longer, in bytes: it is taken into memory.
const LONGEST_ANSWER: u64 = 512 << 20;
/// Makes a folder (RFC 4918).
const MAKE_FOLDER: &str = "MKCOL";
/// Of what a server says about an error so many bytes are kept.
const SAID: usize = 400;

thread_local! {
    /// How often the last request of this thread was made.
    static ATTEMPTED: Cell<u32> = const { Cell::new(0) };
}

/// Whether the last request of this thread was made more than once: then what an earlier one did may be there already.
pub(super) fn was_repeated() -> bool {
    ATTEMPTED.get() > 1
}

/// Why a request did not do what was asked.
#[derive(Debug)]
pub(super) enum RequestFailure {
    /// The server refused it.
    Refused {
        /// The status of the answer.
        status: u16,
        /// The code in it, where there is one (S3).
        code: String,
        /// What else it says.
        said: String,
    },
    /// There was no answer for as long as was allowed.
    Silent(Duration),
    /// It was not reached, or the connection broke.
    Broken(io::Error),
}

impl fmt::Display for RequestFailure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Refused { status, code, said } => match in_words(code) {
                Some(words) => write!(f, "{words} (status {status}, {code})"),
                None if code.is_empty() && said.is_empty() => write!(f, "the server answered with status {status}"),
                None if code.is_empty() => write!(f, "the server answered with status {status}: {said}"),
                None => write!(f, "the server answered with status {status}, {code}: {said}"),
            },
            Self::Silent(limit) => write!(f, "the server was silent for {} s", limit.as_secs_f32()),
            Self::Broken(error) => error.fmt(f),
        }
    }
}

impl std::error::Error for RequestFailure {}

impl RequestFailure {
    /// What it is to the system.
    pub(super) fn kind(&self) -> io::ErrorKind {
        match self {
            Self::Refused { status: 507, .. } => io::ErrorKind::StorageFull,
            Self::Refused { code, .. } if code == "QuotaExceeded" => io::ErrorKind::QuotaExceeded,
            Self::Refused { status: 401 | 403, .. } => io::ErrorKind::PermissionDenied,
            Self::Refused { .. } => io::ErrorKind::Other,
            Self::Silent(_) => io::ErrorKind::TimedOut,
            Self::Broken(error) => error.kind(),
        }
    }

    /// As an error of input and output.
    pub(super) fn into_io(self) -> io::Error {
        io::Error::new(self.kind(), self)
    }

    /// Whether the same request may succeed a little later.
    fn may_pass(&self) -> bool {
        match self {
            Self::Refused { status, .. } => matches!(status, 408 | 429 | 500 | 502 | 503 | 504),
            Self::Silent(_) => false,
            Self::Broken(error) => error.kind() != io::ErrorKind::InvalidData,
        }
    }
}

/// The codes of S3 that people meet, in words.
fn in_words(code: &str) -> Option<&'static str> {
    Some(match code {
        "NoSuchBucket" => "the server has no such bucket",
        "SignatureDoesNotMatch" => "the secret key is not the right one",
        "InvalidAccessKeyId" => "the server does not know the access key",
        "ExpiredToken" | "TokenRefreshRequired" => "the credentials have expired",
        "RequestTimeTooSkewed" => "the clocks of this machine and of the server differ too much",
        "AccessDenied" => "the server does not allow it with these credentials",
        "QuotaExceeded" => "the quota of the bucket or of the account is used up",
        _ => return None,
    })
}

/// Makes requests. Failures of any kind come back as [`RequestFailure`], but those that mean something to `object_store`.
#[derive(Clone, Debug)]
pub(super) struct Web {
    agent: Agent,
    limit: Duration,
    /// Sign-in by name and password: the value of the header.
    sign_in: Option<String>,
}

impl Web {
    /// Requests that may be silent for `limit`, to servers that are certified by `authority` (PEM) where there is one.
    ///
    /// # Errors
    /// When the authority is no certificate.
    pub(super) fn new(limit: Duration, authority: Option<&[u8]>) -> Result<Self, io::Error> {
        let mut tls = TlsConfig::builder();
        if let Some(pem) = authority {
            let certificate = Certificate::from_pem(pem).map_err(io::Error::other)?;
            tls = tls.root_certs(RootCerts::from(vec![certificate]));
        }
        let config = Agent::config_builder()
            .http_status_as_error(false)
            .max_redirects(0)
            .max_redirects_will_error(false)
            .allow_non_standard_methods(true)
            .timeout_resolve(Some(limit))
            .timeout_connect(Some(limit))
            .timeout_recv_response(Some(limit))
            .timeout_per_read(Some(limit))
            .timeout_per_write(Some(limit))
            // What the environment says of proxies is not the definition's.
            .proxy(None)
            .user_agent("gullet")
            .tls_config(tls.build())
            .build();
        Ok(Self { agent: Agent::new_with_config(config), limit, sign_in: None })
    }

    /// The same, signed in (RFC 7617).
    pub(super) fn signed_in(self, user: &str, password: &str) -> Self {
        let pair = data_encoding::BASE64.encode(format!("{user}:{password}").as_bytes());
        Self { sign_in: Some(format!("Basic {pair}")), ..self }
    }

    fn once(&self, request: &Request<()>, bytes: &[u8]) -> Result<Response<Vec<u8>>, RequestFailure> {
        let failed = |error| failure(error, self.limit);
        let answer = if bytes.is_empty() && !matches!(request.method().as_str(), "PUT" | "POST") {
            self.agent.run(request.clone()).map_err(failed)?
        } else {
            self.agent.run(request.clone().map(|()| bytes)).map_err(failed)?
        };
        let (mut parts, body) = answer.into_parts();
        let length = parts.headers.get(header::CONTENT_LENGTH).and_then(|value| value.to_str().ok()?.parse().ok());
        let mut taken = Vec::new();
        let mut body = body.into_with_config().limit(u64::MAX).reader().take(LONGEST_ANSWER + 1);
        body.read_to_end(&mut taken).map_err(|error| broken(error, self.limit))?;
        if taken.len() as u64 > LONGEST_ANSWER {
            let what = format!("an answer of more than {LONGEST_ANSWER} bytes is not taken");
            return Err(RequestFailure::Broken(io::Error::new(io::ErrorKind::InvalidData, what)));
        }
        let is_whole = request.method() == "HEAD" || length.is_none_or(|length: usize| length == taken.len());
        if !is_whole {
            return Err(RequestFailure::Broken(io::Error::new(io::ErrorKind::UnexpectedEof, "the answer broke off")));
        }
        let code = between(&taken, "<Code>", "</Code>");
        // Another writer has just made the folder (RFC 4918, 9.3.1).
        if request.method() == MAKE_FOLDER && parts.status == StatusCode::METHOD_NOT_ALLOWED {
            parts.status = StatusCode::CREATED;
        }
        // The others mean something to who asks.
        let means_something = parts.status.is_success()
            || matches!(parts.status.as_u16(), 304 | 404 | 409 | 412 | 416) && code != "NoSuchBucket";
        if means_something {
            return Ok(Response::from_parts(parts, taken));
        }
        let said = between(&taken, "<Message>", "</Message>");
        Err(RequestFailure::Refused { status: parts.status.as_u16(), code, said })
    }

    /// Makes a folder of a WebDAV server, where it is not there yet.
    pub(super) fn make_folder(&self, url: &str) -> Result<(), RequestFailure> {
        let wrong = |error| RequestFailure::Broken(io::Error::new(io::ErrorKind::InvalidData, error));
        // Some servers take it for the name of a file without the last character.
        let request = Request::builder().method(MAKE_FOLDER).uri(format!("{url}/")).body(()).map_err(wrong)?;
        let request = self.with_sign_in(request);
        let answer = match self.repeated(&request, &[]) {
            // So says one server of a folder that another writer made in this very moment; asked again it says that it is there.
            Err(RequestFailure::Refused { status: 403, .. }) => self.repeated(&request, &[])?,
            outcome => outcome?,
        };
        let (status, code) = (answer.status().as_u16(), String::new());
        let said = "the folder above it is not there".to_owned();
        if answer.status().is_success() { Ok(()) } else { Err(RequestFailure::Refused { status, code, said }) }
    }

    /// Gives an object of a WebDAV server another name, which nothing may have yet; the answer says how that went.
    pub(super) fn rename(&self, from: &str, to: &str) -> Result<StatusCode, RequestFailure> {
        let wrong = |error| RequestFailure::Broken(io::Error::new(io::ErrorKind::InvalidData, error));
        let request = Request::builder().method("MOVE").uri(from).header("destination", to).header("overwrite", "F");
        let answer = self.repeated(&self.with_sign_in(request.body(()).map_err(wrong)?), &[])?;
        Ok(answer.status())
    }

    fn with_sign_in(&self, mut request: Request<()>) -> Request<()> {
        if let Some(value) = self.sign_in.as_ref().and_then(|value| value.parse().ok()) {
            request.headers_mut().insert(header::AUTHORIZATION, value);
        }
        request
    }

    /// A pause before the next attempt: half of it is left to chance.
    #[allow(
        clippy::disallowed_methods,
        reason = "a store has no clock; the pauses are a small part of the limit of a request"
    )]
    fn pause(&self, attempt: u32) {
        let growing = (self.limit / FIRST_PAUSE).saturating_mul(1 << attempt.saturating_sub(1));
        std::thread::sleep(growing.min(self.limit / LONGEST_PAUSE).mul_f64(0.5 + 0.5 * fastrand::f64()));
    }

    fn repeated(&self, request: &Request<()>, bytes: &[u8]) -> Result<Response<Vec<u8>>, RequestFailure> {
        let mut attempt = 1;
        loop {
            ATTEMPTED.set(attempt);
            match self.once(request, bytes) {
                Err(failure) if failure.may_pass() && attempt < ATTEMPTS => self.pause(attempt),
                // Two writers of one name met; one of them has won a moment later (S3).
                Ok(answer) if is_met(&answer) && attempt < ATTEMPTS => self.pause(attempt),
                outcome => return outcome,
            }
            attempt += 1;
        }
    }
}

fn is_met(answer: &Response<Vec<u8>>) -> bool {
    answer.status() == StatusCode::CONFLICT
        && between(answer.body(), "<Code>", "</Code>") == "ConditionalRequestConflict"
}

/// What stands between two marks, as far as it is text.
fn between(bytes: &[u8], start: &str, end: &str) -> String {
    let text = String::from_utf8_lossy(&bytes[..bytes.len().min(64 << 10)]);
    let found = text.split_once(start).and_then(|(_, rest)| Some(rest.split_once(end)?.0));
    found.unwrap_or_default().chars().take(SAID).collect()
}

fn failure(error: ureq::Error, limit: Duration) -> RequestFailure {
    match error {
        ureq::Error::Timeout(Timeout::Resolve | Timeout::Connect) => RequestFailure::Broken(io::Error::new(
            io::ErrorKind::TimedOut,
            "the server cannot be reached: it does not answer",
        )),
        ureq::Error::Timeout(_) => RequestFailure::Silent(limit),
        ureq::Error::Io(error) => broken(error, limit),
        // A certificate, or what should be a server with one: the next attempt would say the same.
        error @ (ureq::Error::Rustls(_) | ureq::Error::Tls(_) | ureq::Error::BadUri(_)) => {
            RequestFailure::Broken(io::Error::new(io::ErrorKind::InvalidData, error))
        }
        error => RequestFailure::Broken(io::Error::other(error)),
    }
}

fn broken(error: io::Error, limit: Duration) -> RequestFailure {
    // `ureq` packs its own errors into those of input and output while a body is read.
    match error.get_ref().and_then(|inner| inner.downcast_ref::<ureq::Error>()) {
        Some(ureq::Error::Timeout(_)) => RequestFailure::Silent(limit),
        _ if matches!(error.kind(), io::ErrorKind::TimedOut | io::ErrorKind::WouldBlock) => {
            RequestFailure::Silent(limit)
        }
        // `rustls` says so of a certificate.
        _ => RequestFailure::Broken(error),
    }
}

#[async_trait::async_trait]
impl HttpService for Web {
    async fn call(&self, request: HttpRequest) -> Result<HttpResponse, HttpError> {
        let (parts, body) = request.into_parts();
        let bytes = body.collect().await?.to_bytes();
        // Nothing else waits on this thread: it is the caller's, and its own executor runs this alone.
        let answer = self.repeated(&self.with_sign_in(Request::from_parts(parts, ())), &bytes);
        let answer = answer.map_err(|failure| HttpError::new(HttpErrorKind::Unknown, failure))?;
        Ok(answer.map(HttpResponseBody::from))
    }
}

impl HttpConnector for Web {
    fn connect(&self, _: &ClientOptions) -> object_store::Result<HttpClient> {
        Ok(HttpClient::new(self.clone()))
    }
}

/// The failure at the bottom of an error.
pub(super) fn failure_in<'e>(error: &'e (dyn std::error::Error + 'static)) -> Option<&'e RequestFailure> {
    let mut next = Some(error);
    while let Some(error) = next {
        if let Some(failure) = error.downcast_ref::<RequestFailure>() {
            return Some(failure);
        }
        next = error.source();
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    fn refused(status: u16, code: &str, said: &str) -> RequestFailure {
        RequestFailure::Refused { status, code: code.to_owned(), said: said.to_owned() }
    }

    #[test]
    fn a_refusal_is_said_with_what_the_server_said_of_it() {
        let said = |status, code, said| refused(status, code, said).to_string();
        assert_eq!(
            said(403, "AccessDenied", "no"),
            "the server does not allow it with these credentials (status 403, AccessDenied)"
        );
        assert_eq!(said(500, "", ""), "the server answered with status 500");
        assert_eq!(said(500, "", "oh"), "the server answered with status 500: oh");
        assert_eq!(said(400, "Odd", "oh"), "the server answered with status 400, Odd: oh");
        assert_eq!(RequestFailure::Silent(Duration::from_millis(1500)).to_string(), "the server was silent for 1.5 s");
    }

    #[test]
    fn what_may_pass_is_tried_again_and_what_it_is_to_the_system_is_told() {
        let passes = |status| refused(status, "", "").may_pass();
        assert!([408, 429, 500, 502, 503, 504].into_iter().all(passes));
        assert!(![400, 401, 403, 404, 501, 505, 507].into_iter().any(passes));
        assert!(!RequestFailure::Silent(Duration::ZERO).may_pass());
        let broken = |kind| RequestFailure::Broken(io::Error::from(kind));
        assert!(broken(io::ErrorKind::ConnectionReset).may_pass() && !broken(io::ErrorKind::InvalidData).may_pass());
        let kinds =
            [refused(507, "", ""), refused(400, "QuotaExceeded", ""), refused(401, "", ""), refused(403, "", "")];
        let is = kinds.map(|failure| failure.kind());
        let denied = io::ErrorKind::PermissionDenied;
        assert_eq!(is, [io::ErrorKind::StorageFull, io::ErrorKind::QuotaExceeded, denied, denied]);
        assert_eq!(refused(418, "", "").kind(), io::ErrorKind::Other);
    }

    /// What arrives at a server that answers everything with 200 and nothing.
    fn sent(method: &str, bytes: &[u8]) -> String {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let url = format!("http://{}/one", listener.local_addr().unwrap());
        let server = std::thread::spawn(move || {
            let (mut client, _) = listener.accept().unwrap();
            client.set_read_timeout(Some(Duration::from_millis(200))).unwrap();
            let (mut taken, mut piece) = (Vec::new(), [0; 4096]);
            while let Ok(some @ 1..) = client.read(&mut piece) {
                taken.extend_from_slice(&piece[..some]);
            }
            io::Write::write_all(&mut client, b"HTTP/1.1 200 OK\r\ncontent-length: 0\r\n\r\n").unwrap();
            String::from_utf8_lossy(&taken).to_ascii_lowercase()
        });
        let web = Web::new(Duration::from_secs(5), None).unwrap();
        let request = Request::builder().method(method).uri(url).body(()).unwrap();
        web.once(&request, bytes).unwrap();
        server.join().unwrap()
    }

    #[test]
    fn an_object_without_a_byte_is_sent_with_its_length_and_a_question_with_none() {
        assert!(sent("PUT", b"").contains("content-length: 0"));
        let put = sent("PUT", b"123");
        assert!(put.contains("content-length: 3") && put.ends_with("123"), "{put}");
        let get = sent("GET", b"");
        assert!(!get.contains("content-length") && !get.contains("transfer-encoding"), "{get}");
    }

    #[test]
    fn what_stands_between_two_marks_is_found_and_not_too_much_of_it() {
        assert_eq!(between(b"<Error><Code>Odd</Code></Error>", "<Code>", "</Code>"), "Odd");
        assert_eq!(between(b"<Code>Odd", "<Code>", "</Code>"), "");
        let long = format!("<Message>{}</Message>", "x".repeat(SAID + 100));
        assert_eq!(between(long.as_bytes(), "<Message>", "</Message>").len(), SAID);
    }
}
