//! One line in the system log (RFC 3164, over the local socket).

use std::io;
use std::os::unix::net::UnixDatagram;

use gullet_model::definition::Facility;

/// Where the system log listens.
const SOCKET: &str = "/dev/log";

/// How grave a line is (RFC 5424, 6.2.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Gravity {
    /// Somebody must act.
    Error,
    /// Somebody should look.
    Warning,
    /// Good to know.
    Info,
}

impl Gravity {
    fn number(self) -> u8 {
        match self {
            Self::Error => 3,
            Self::Warning => 4,
            Self::Info => 6,
        }
    }
}

/// Writes a line. The log stamps it with its own time.
///
/// # Errors
/// When nobody listens.
pub fn log(facility: Facility, gravity: Gravity, line: &str) -> io::Result<()> {
    let socket = UnixDatagram::unbound()?;
    let line: String = line.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    let priority = facility.number() * 8 + gravity.number();
    socket.send_to(format!("<{priority}>gullet[{}]: {line}", std::process::id()).as_bytes(), SOCKET)?;
    Ok(())
}
