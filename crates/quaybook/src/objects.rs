//! An object storage in memory, for the tour: as much of S3's protocol as a store needs, for one bucket. It looks at no signature and
//! keeps nothing when it ends; it is no server for anything else.
//!
//! ```text
//! PUT /BUCKET/KEY, with If-None-Match: *      GET, HEAD, DELETE /BUCKET/KEY, with Range: bytes=FIRST-LAST or bytes=-LAST
//! GET /BUCKET?list-type=2&prefix=PREFIX       POST /BUCKET?delete
//! ```

use std::collections::BTreeMap;
use std::io;
use std::sync::Arc;
use std::thread::JoinHandle;

use md5::{Digest, Md5};
use tiny_http::{Header, Method, Request, Response, Server, StatusCode};

/// The storage, which serves until it is dropped.
pub struct ObjectStorage {
    server: Arc<Server>,
    serving: Option<JoinHandle<()>>,
}

impl ObjectStorage {
    /// Serves at a port of this machine that is free.
    ///
    /// # Errors
    /// When there is none.
    pub fn start() -> io::Result<Self> {
        let server = Arc::new(Server::http("127.0.0.1:0").map_err(io::Error::other)?);
        let asked = Arc::clone(&server);
        let serving = std::thread::spawn(move || {
            let mut objects = Objects::default();
            for request in asked.incoming_requests() {
                let _ = objects.answer(request);
            }
        });
        Ok(Self { server, serving: Some(serving) })
    }

    /// Its URL.
    pub fn endpoint(&self) -> String {
        self.server.server_addr().to_ip().map_or_else(String::new, |address| format!("http://{address}"))
    }
}

impl Drop for ObjectStorage {
    fn drop(&mut self) {
        self.server.unblock();
        if let Some(serving) = self.serving.take() {
            let _ = serving.join();
        }
    }
}

#[derive(Default)]
struct Objects(BTreeMap<String, Vec<u8>>);

impl Objects {
    fn answer(&mut self, mut request: Request) -> io::Result<()> {
        let url = request.url().to_owned();
        let (path, query) = url.split_once('?').unwrap_or((&url, ""));
        let key = path.trim_start_matches('/').split_once('/').map(|(_, key)| key.to_owned());
        let header = |name: &str| {
            let found =
                request.headers().iter().find(|header| header.field.as_str().as_str().eq_ignore_ascii_case(name));
            found.map(|header| header.value.as_str().to_owned())
        };
        let (creates, range) = (header("If-None-Match").is_some(), header("Range"));
        let method = request.method().clone();
        let mut body = Vec::new();
        request.as_reader().read_to_end(&mut body)?;
        let key = key.filter(|key| !key.is_empty());
        match (&method, key) {
            (Method::Get, None) => respond(request, 200, self.listed(query).into_bytes(), &[]),
            (Method::Post, None) => {
                for key in between(&String::from_utf8_lossy(&body), "<Key>", "</Key>") {
                    self.0.remove(&key);
                }
                respond(request, 200, b"<DeleteResult></DeleteResult>".to_vec(), &[])
            }
            (Method::Put, Some(key)) if creates && self.0.contains_key(&key) => {
                respond(request, 412, b"<Error><Code>PreconditionFailed</Code></Error>".to_vec(), &[])
            }
            (Method::Put, Some(key)) => {
                let tag = tag(&body);
                self.0.insert(key, body);
                respond(request, 200, Vec::new(), &[("ETag", tag)])
            }
            (Method::Delete, Some(key)) => {
                self.0.remove(&key);
                respond(request, 204, Vec::new(), &[])
            }
            (Method::Get | Method::Head, Some(key)) => match self.0.get(&key) {
                None => respond(request, 404, b"<Error><Code>NoSuchKey</Code></Error>".to_vec(), &[]),
                Some(bytes) => send(request, bytes, range.as_deref()),
            },
            _ => respond(request, 501, Vec::new(), &[]),
        }
    }

    fn listed(&self, query: &str) -> String {
        let prefix = query.split('&').find_map(|pair| pair.strip_prefix("prefix=")).unwrap_or_default();
        let prefix = prefix.replace("%2F", "/");
        let found = self.0.iter().filter(|(key, _)| key.starts_with(&prefix)).map(|(key, bytes)| {
            format!(
                "<Contents><Key>{key}</Key><LastModified>2026-01-01T00:00:00.000Z</LastModified><ETag>{}</ETag><Size>{}</Size></Contents>",
                tag(bytes),
                bytes.len()
            )
        });
        format!("<ListBucketResult><IsTruncated>false</IsTruncated>{}</ListBucketResult>", found.collect::<String>())
    }
}

/// The part of an object that is asked for.
fn send(request: Request, bytes: &[u8], range: Option<&str>) -> io::Result<()> {
    let modified = ("Last-Modified", "Thu, 01 Jan 2026 00:00:00 GMT".to_owned());
    let tag = ("ETag", tag(bytes));
    let length = bytes.len();
    let asked = range.and_then(|range| range.strip_prefix("bytes=")?.split_once('-'));
    let within = asked.map(|(first, last)| match first.parse::<usize>() {
        Ok(first) => first.min(length)..last.parse::<usize>().map_or(length, |last| (last + 1).min(length)),
        Err(_) => length.saturating_sub(last.parse().unwrap_or(0))..length,
    });
    match within.filter(|range| range.start < range.end) {
        Some(range) => {
            let said = format!("bytes {}-{}/{length}", range.start, range.end - 1);
            respond(request, 206, bytes[range].to_vec(), &[("Content-Range", said), tag, modified])
        }
        None => respond(request, 200, bytes.to_vec(), &[tag, modified]),
    }
}

fn respond(request: Request, status: u16, body: Vec<u8>, headers: &[(&str, String)]) -> io::Result<()> {
    let mut response = Response::from_data(body).with_status_code(StatusCode(status));
    // Every object says how long it is, however long that is: without it no reader can tell whether it has all of it.
    response = response.with_chunked_threshold(usize::MAX);
    for (name, value) in headers {
        if let Ok(header) = Header::from_bytes(name.as_bytes(), value.as_bytes()) {
            response.add_header(header);
        }
    }
    request.respond(response)
}

/// The tag of an object: the MD5 of its bytes, as the protocol's servers have it.
fn tag(bytes: &[u8]) -> String {
    let digits: String = Md5::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect();
    format!("\"{digits}\"")
}

/// Everything that stands between two marks.
fn between(text: &str, start: &str, end: &str) -> Vec<String> {
    text.split(start).skip(1).filter_map(|rest| Some(rest.split_once(end)?.0.to_owned())).collect()
}

#[cfg(test)]
mod tests {
    use std::io::{Read, Write};
    use std::net::TcpStream;

    use super::*;

    /// What the storage answers to a request, as it comes.
    fn answer(storage: &ObjectStorage, head: &str, body: &[u8]) -> Vec<u8> {
        let mut stream = TcpStream::connect(storage.endpoint().trim_start_matches("http://")).unwrap();
        let head = format!("{head} HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Length: {}\r\n\r\n", body.len());
        stream.write_all(head.as_bytes()).unwrap();
        stream.write_all(body).unwrap();
        let mut answer = Vec::new();
        stream.read_to_end(&mut answer).unwrap();
        answer
    }

    #[test]
    fn an_object_says_how_long_it_is_however_long_that_is() {
        let storage = ObjectStorage::start().unwrap();
        for length in [10, 20_000, 400_000] {
            let bytes = vec![b'a'; length];
            answer(&storage, &format!("PUT /bucket/{length}"), &bytes);
            let got = answer(&storage, &format!("GET /bucket/{length}"), b"");
            let text = String::from_utf8_lossy(&got[..got.len().min(600)]).to_ascii_lowercase();
            assert!(text.contains(&format!("content-length: {length}\r\n")), "{text}");
            assert!(got.ends_with(&bytes) && !text.contains("chunked"), "{text}");
        }
    }
}
