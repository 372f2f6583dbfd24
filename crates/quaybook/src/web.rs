//! The desk over HTTP: what its socket answers, exports that are asked for and become ready, and snapshots that stay with
//! "another system": copies in a folder beside the desk.
//!
//! ```text
//! POST /pause, /resume        GET /state -> {"state": "serving", "busy": 0}
//! POST /exports -> {"id"}     GET /exports/ID -> {"state": "working" | "ready"}     GET /exports/ID/file
//! POST /snapshots -> {"id"}   GET /snapshots/ID -> the same                         DELETE /snapshots/ID
//! ```

use std::collections::BTreeMap;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use clap::{Args, ValueEnum};
use serde_json::json;
use tiny_http::{Header, Method, Request, Response, Server};

use crate::client::ask;
use crate::desk::{Desk, Failure, LEDGERS};

/// How the web interface is served.
#[derive(Args)]
pub(crate) struct WebArgs {
    /// Where it listens; port 0 is any that is free
    #[arg(long, default_value = "127.0.0.1:0")]
    listen: String,
    /// Write the address into this file when it listens
    #[arg(long)]
    address: PathBuf,
    /// The first line of this file is the token that everything but `GET /state` needs
    #[arg(long)]
    token: Option<PathBuf>,
    /// Milliseconds until an export or a snapshot is ready
    #[arg(long, default_value_t = 100)]
    slow: u64,
    /// Misbehave
    #[arg(long, value_enum, default_value_t = WebMisbehaviour::None)]
    misbehave: WebMisbehaviour,
}

/// How a web interface can lie.
#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum WebMisbehaviour {
    /// Not at all
    None,
    /// Die in the middle of a download
    Cut,
    /// Give a page that says sorry, with status 200
    Page,
    /// Never become ready
    Never,
}

/// What was asked for, by its id: since when.
type Orders = BTreeMap<String, Instant>;

/// Serves until the process is ended.
pub(crate) fn web(desk: &Desk, args: &WebArgs) -> Result<(), Failure> {
    let server = Server::http(&args.listen).map_err(|error| error.to_string())?;
    let token = args.token.as_ref().map(fs::read_to_string).transpose()?;
    let token = token.map(|text| format!("Bearer {}", text.lines().next().unwrap_or("")));
    let listening = format!("{}.new", args.address.display());
    fs::write(&listening, format!("{}\n", server.server_addr()))?;
    fs::rename(&listening, &args.address)?;
    let mut orders = Orders::new();
    for request in server.incoming_requests() {
        let said = request.headers().iter().find(|header| header.field.equiv("Authorization"));
        let may = token.as_ref().is_none_or(|token| said.is_some_and(|said| said.value.as_str() == token));
        let is_open = request.method() == &Method::Get && request.url() == "/state";
        let answered = if may || is_open {
            answer(desk, args, &mut orders, request)
        } else {
            say(request, 401, &json!({ "error": "who are you?" }))
        };
        // Whoever asked has gone; the next one is answered all the same, unless it is to die: the connection breaks with it.
        if args.misbehave == WebMisbehaviour::Cut {
            answered?;
        }
    }
    Ok(())
}

fn say(request: Request, status: u16, value: &serde_json::Value) -> Result<(), Failure> {
    let kind = Header::from_bytes("Content-Type", "application/json").map_err(|()| "a header")?;
    Ok(request.respond(Response::from_string(value.to_string()).with_status_code(status).with_header(kind))?)
}

fn answer(desk: &Desk, args: &WebArgs, orders: &mut Orders, request: Request) -> Result<(), Failure> {
    let (method, url) = (request.method().clone(), request.url().to_owned());
    let path: Vec<&str> = url.trim_matches('/').split('/').collect();
    let is_ready = |since: &Instant| {
        args.misbehave != WebMisbehaviour::Never && since.elapsed() >= Duration::from_millis(args.slow)
    };
    match (method, path.as_slice()) {
        (Method::Post, [word @ ("pause" | "resume")]) => match ask(desk, &[word]) {
            Ok(_) => say(request, 200, &json!({})),
            Err(error) => say(request, 500, &json!({ "error": error.to_string() })),
        },
        (Method::Get, ["state"]) => match (ask(desk, &["state"]), ask(desk, &["busy"])) {
            (Ok(state), Ok(busy)) => {
                let busy: u64 = busy.trim().parse().unwrap_or(0);
                say(request, 200, &json!({ "state": state.trim(), "busy": busy }))
            }
            _ => say(request, 503, &json!({ "error": "the desk is closed" })),
        },
        (Method::Post, [what @ ("exports" | "snapshots")]) => {
            let id = format!("{what}-{}", orders.len() + 1);
            let folder = copies(desk).join(&id);
            fs::create_dir_all(&folder)?;
            for ledger in LEDGERS {
                ask(desk, &["export", ledger, &folder.to_string_lossy()])?;
            }
            orders.insert(id.clone(), Instant::now());
            say(request, 202, &json!({ "id": id }))
        }
        (Method::Get, ["exports" | "snapshots", id]) => {
            match orders.get(*id).filter(|_| copies(desk).join(id).is_dir()) {
                Some(since) => {
                    say(request, 200, &json!({ "state": if is_ready(since) { "ready" } else { "working" } }))
                }
                None => say(request, 404, &json!({ "error": "there is none" })),
            }
        }
        (Method::Get, ["exports", id, "file"]) => match orders.get(*id).filter(|since| is_ready(since)) {
            Some(_) => give(args, request, &copies(desk).join(id)),
            None => say(request, 404, &json!({ "error": "it is not ready" })),
        },
        (Method::Delete, ["snapshots", id]) if orders.contains_key(*id) => {
            fs::remove_dir_all(copies(desk).join(id))?;
            say(request, 200, &json!({}))
        }
        _ => say(request, 404, &json!({ "error": "there is no such thing" })),
    }
}

/// Where copies lie that stay with the desk's own machinery.
fn copies(desk: &Desk) -> PathBuf {
    desk.folder().with_extension("copies")
}

fn give(args: &WebArgs, request: Request, folder: &Path) -> Result<(), Failure> {
    let mut bytes = Vec::new();
    let mut names: Vec<PathBuf> =
        fs::read_dir(folder)?.map(|entry| Ok(entry?.path())).collect::<Result<_, Failure>>()?;
    names.sort();
    for name in names {
        bytes.extend(fs::read(name)?);
    }
    if args.misbehave == WebMisbehaviour::Page {
        let kind = Header::from_bytes("Content-Type", "text/html").map_err(|()| "a header")?;
        return Ok(request.respond(Response::from_string("<p>Sorry, we are at sea.</p>").with_header(kind))?);
    }
    let half = if args.misbehave == WebMisbehaviour::Cut { bytes.len() / 2 } else { bytes.len() };
    let mut out = request.into_writer();
    write!(
        out,
        "HTTP/1.1 200 OK\r\nContent-Type: application/octet-stream\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
        bytes.len()
    )?;
    out.write_all(&bytes[..half])?;
    out.flush()?;
    if half < bytes.len() {
        return Err("it broke off".into());
    }
    Ok(())
}
