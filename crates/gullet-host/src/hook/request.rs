//! A request over HTTP in a command's place (RFC 9110), by `ureq`. It is limited, redacted and recorded like a process: the
//! method and the URL stand where the program and its arguments would.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, Read};
use std::path::PathBuf;
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::time::Duration;

use data_encoding::BASE64;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use ureq::http::{Request, header};
use ureq::tls::{Certificate, RootCerts, TlsConfig};
use ureq::{Agent, Body};

use super::process::{Finished, HttpAnswer, READABLE};
use super::redactor::{Redactor, redact};
use super::runner::{Call, HookError};
use super::secret;
use crate::world::World;
use gullet_model::definition::placeholders::fill;
use gullet_model::definition::{CommandSpec, EnvValue};
use gullet_model::step::{CommandReport, OutputPiece, ProcessExit, Stream};
use gullet_model::words::millis;

/// How often the wish to stop is looked at.
const TICK: Duration = Duration::from_millis(50);
/// Of an answer so much is kept for the record, in bytes.
const KEPT: usize = 32 << 10;

/// A request that is put together.
pub(super) struct Prepared {
    method: &'static str,
    url: String,
    headers: Vec<(String, String)>,
    body: Option<String>,
    authority: Option<PathBuf>,
    limit: Duration,
    stdout: Option<PathBuf>,
    secrets: Vec<String>,
}

/// What a server answered.
struct Answered {
    answer: HttpAnswer,
    text: Vec<u8>,
    is_cut: bool,
}

/// Puts a request together.
pub(super) fn prepare(
    (method, url): (&'static str, &str),
    spec: &CommandSpec,
    call: &Call<'_>,
    values: &BTreeMap<String, String>,
    world: World<'_>,
) -> Result<Prepared, HookError> {
    let request = &spec.request;
    let mut secrets = Vec::new();
    let mut secret_of = |what: &str, value: &EnvValue| {
        let named = BTreeMap::from([(what.to_owned(), value.clone())]);
        let mut resolved = secret::resolve(&named, world.environment)?;
        secrets.append(&mut resolved.secrets);
        Ok::<_, HookError>(resolved.env.remove(what).unwrap_or_default())
    };
    let mut headers = Vec::new();
    for (name, value) in &request.headers {
        headers.push((name.clone(), secret_of(name, value)?));
    }
    if let Some(token) = &request.bearer {
        headers.push((header::AUTHORIZATION.to_string(), format!("Bearer {}", secret_of("bearer", token)?)));
    }
    if let Some(user) = &request.user {
        let password = request.password.as_ref().map(|password| secret_of("password", password)).transpose()?;
        let pair = BASE64.encode(format!("{user}:{}", password.unwrap_or_default()).as_bytes());
        headers.push((header::AUTHORIZATION.to_string(), format!("Basic {pair}")));
        secrets.push(pair);
    }
    let body = request.body.as_ref().map(|body| fill(body, values)).transpose()?;
    if body.is_some() {
        let kind = request.body_type.clone().unwrap_or_else(|| "application/json".to_owned());
        headers.push((header::CONTENT_TYPE.to_string(), kind));
    }
    // A value becomes part of the URL, never more of it than one piece.
    let encoded = values.iter().map(|(name, value)| (name.clone(), percent(value))).collect();
    Ok(Prepared {
        method,
        url: fill(url, &encoded)?,
        headers,
        body,
        authority: request.authority.clone(),
        limit: spec.limit.map_or(call.limit, |limit| limit.0),
        stdout: call.stdout.clone(),
        secrets,
    })
}

/// What stays as it is in a piece of a URL (RFC 3986, unreserved characters).
const UNRESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// A text as a piece of a URL.
fn percent(text: &str) -> String {
    utf8_percent_encode(text, UNRESERVED).to_string()
}

/// Makes a request, and waits for the answer for as long as is allowed.
pub(super) fn perform(prepared: Prepared, call: &Call<'_>, world: World<'_>) -> Finished {
    let started = world.clock.now();
    let began = world.clock.uptime();
    let (method, url, secrets, limit) =
        (prepared.method, prepared.url.clone(), prepared.secrets.clone(), prepared.limit);
    let (out, answers) = channel();
    std::thread::spawn(move || {
        // Nobody waits any more when the limit was reached; the agent has the same one.
        let _ = out.send(ask(&prepared));
    });
    let answered = loop {
        match answers.recv_timeout(TICK) {
            Ok(answered) => break answered,
            Err(RecvTimeoutError::Disconnected) => {
                break Err(ProcessExit::NotStarted("the request ended early".to_owned()));
            }
            Err(RecvTimeoutError::Timeout) if call.patience.is_over(world.clock) => break Err(ProcessExit::Stopped),
            Err(RecvTimeoutError::Timeout) if world.clock.uptime().saturating_sub(began) >= limit => {
                break Err(ProcessExit::Limit(millis(limit)));
            }
            Err(RecvTimeoutError::Timeout) => {}
        }
    };
    let (exit, answered) = match answered {
        Ok(answered) => {
            let ok = (200..300).contains(&answered.answer.status);
            (ProcessExit::Code(i32::from(!ok)), Some(answered))
        }
        Err(exit) => (exit, None),
    };
    // Before it is judged, cut or kept, as the output of a process.
    let answered = answered.map(|answered| {
        let mut redactor = Redactor::new(&secrets);
        let clean = redactor.push(&answered.text);
        Answered { text: [clean, redactor.finish()].concat(), ..answered }
    });
    let mut output = Vec::new();
    let took_ms = millis(world.clock.uptime().saturating_sub(began));
    if let Some(answered) = &answered {
        let answer = &answered.answer;
        let text = format!("status {}, {} bytes of {}", answer.status, answer.length, answer.content_type);
        output.push(OutputPiece { stream: Stream::Err, at_ms: took_ms, text });
        let text = String::from_utf8_lossy(&answered.text);
        let end = (0..=text.len().min(KEPT)).rev().find(|end| text.is_char_boundary(*end)).unwrap_or(0);
        if end > 0 {
            let text = text[..end].to_owned();
            output.insert(0, OutputPiece { stream: Stream::Out, at_ms: took_ms, text });
        }
    }
    let report = CommandReport {
        argv: vec![method.to_owned(), redact(&url, &secrets)],
        script: None,
        dir: String::new(),
        account: world.host.account.clone(),
        started,
        took_ms,
        exit,
        output,
        dropped_bytes: answered.as_ref().map_or(0, |answered| answered.text.len().saturating_sub(KEPT) as u64),
        escaped: Vec::new(),
    };
    match answered {
        Some(Answered { answer, text, is_cut }) => {
            Finished { report, stdout: text, stdout_cut: is_cut, left_open: false, answer: Some(answer) }
        }
        None => Finished { report, stdout: Vec::new(), stdout_cut: false, left_open: false, answer: None },
    }
}

fn ask(prepared: &Prepared) -> Result<Answered, ProcessExit> {
    let failed = |what: String| ProcessExit::NotStarted(redact(&what, &prepared.secrets));
    let mut tls = TlsConfig::builder();
    if let Some(path) = &prepared.authority {
        let pem = fs::read(path).map_err(|error| failed(format!("`{}`: {error}", path.display())))?;
        let authority =
            Certificate::from_pem(&pem).map_err(|error| failed(format!("`{}`: {error}", path.display())))?;
        tls = tls.root_certs(RootCerts::from(vec![authority]));
    }
    let config = Agent::config_builder()
        .http_status_as_error(false)
        .timeout_global(Some(prepared.limit))
        // What the environment says of proxies is not the definition's.
        .proxy(None)
        .user_agent("gullet")
        .tls_config(tls.build())
        .build();
    let mut request = Request::builder().method(prepared.method).uri(&prepared.url);
    for (name, value) in &prepared.headers {
        request = request.header(name, value);
    }
    let agent = Agent::new_with_config(config);
    let response = match &prepared.body {
        Some(body) => request.body(body.as_str()).map_err(|error| failed(error.to_string())).map(|r| agent.run(r))?,
        None => request.body(()).map_err(|error| failed(error.to_string())).map(|r| agent.run(r))?,
    };
    let response = response.map_err(|error| failed(format!("{}: {error}", prepared.url)))?;
    let status = response.status().as_u16();
    let kind = response.headers().get(header::CONTENT_TYPE).and_then(|value| value.to_str().ok());
    let content_type = kind.unwrap_or("an unnamed type").to_owned();
    let (text, is_cut, length) = take(prepared, status, response.into_body())
        .map_err(|error| failed(format!("{}: the answer broke off or could not be kept: {error}", prepared.url)))?;
    Ok(Answered { answer: HttpAnswer { status, content_type, length }, text, is_cut })
}

/// Takes an answer: into the file that wants it, or into memory. What is no success goes into no file.
fn take(prepared: &Prepared, status: u16, body: Body) -> io::Result<(Vec<u8>, bool, u64)> {
    let mut body = body.into_with_config().limit(u64::MAX).reader();
    if let Some(path) = prepared.stdout.as_ref().filter(|_| (200..300).contains(&status)) {
        let length = io::copy(&mut body, &mut File::create(path)?)?;
        return Ok((Vec::new(), false, length));
    }
    let mut text = Vec::new();
    let most = READABLE as u64 + 1;
    body.take(most).read_to_end(&mut text)?;
    let is_cut = text.len() as u64 == most;
    text.truncate(READABLE);
    let length = text.len() as u64;
    Ok((text, is_cut, length))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_filled_in_stays_one_piece_of_the_url() {
        assert_eq!(percent("inner isles/4?x=#1&ä"), "inner%20isles%2F4%3Fx%3D%231%26%C3%A4");
        assert_eq!(percent("a-b_c.d~9"), "a-b_c.d~9");
    }
}
