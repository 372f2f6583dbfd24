//! Asking an open desk.

use std::io::{Read, Write};
use std::os::unix::net::UnixStream;
use std::time::Duration;

use crate::desk::{Desk, Failure};

/// Sends one request and gives the answer.
///
/// # Errors
/// When no desk is open there, or it answers with an error.
pub(crate) fn ask(desk: &Desk, words: &[&str]) -> Result<String, Failure> {
    let mut stream = UnixStream::connect(desk.socket())
        .map_err(|error| format!("no desk is open in {}: {error}", desk.folder().display()))?;
    stream.set_read_timeout(Some(Duration::from_secs(60)))?;
    stream.write_all(format!("{}\n", words.join("\t")).as_bytes())?;
    let mut answer = String::new();
    stream.read_to_string(&mut answer)?;
    match answer.split_once('\n') {
        Some(("ok", text)) => Ok(text.to_owned()),
        Some((_, text)) => Err(text.trim_end().to_owned().into()),
        None => Err("the desk closed without an answer".into()),
    }
}
