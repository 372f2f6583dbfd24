//! Who is told of what, and how.

use std::collections::BTreeMap;
use std::path::PathBuf;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::engines::RequestSpec;
use super::schedule::{CalendarSpec, ScheduleSpec};
use super::types::{EnvValue, is_false};
use super::values::Span;
use crate::outcome::Outcome;
use crate::reason::Reason;

/// Somebody to tell, in one way: `mail`, `post`, `run` or `syslog`.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "somebody to tell", deny_unknown_fields, transform = without_body)]
pub struct NotifySpec {
    /// By mail, to one address or several. Without it another key must say how.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mail: Option<MailSpec>,
    /// By a request: a URL that the message is sent to, as JSON. Without it another key must say how.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub post: Option<String>,
    /// Headers, credentials and body of the request.
    #[serde(flatten)]
    pub request: RequestSpec,
    /// By a command: program and arguments; the message is its standard input, as JSON. Without it another key must
    /// say how.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run: Option<Vec<String>>,
    /// Further environment variables of the command. Without it the command has
    /// what Gullet gives it, and nothing of the caller's.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub env: BTreeMap<String, EnvValue>,
    /// The account that the command runs as. Without it the command runs as Gullet does.
    #[serde(default, rename = "as", skip_serializing_if = "Option::is_none")]
    pub run_as: Option<String>,
    /// By one line in the system log, of this facility. Without it another key must say how.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub syslog: Option<Facility>,
    /// How long sending one message may take; 30 seconds by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<Span>,
}

/// Takes the body away from the keys of a request: it is the message.
fn without_body(schema: &mut schemars::Schema) {
    if let Some(properties) = schema.get_mut("properties").and_then(serde_json::Value::as_object_mut) {
        properties.remove("body");
        properties.remove("body_type");
    }
}

/// How mail is sent, by SMTP (RFC 5321).
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "mail", deny_unknown_fields)]
pub struct MailSpec {
    /// The addresses that it goes to.
    pub to: Vec<String>,
    /// The address it comes from.
    pub from: String,
    /// The server: `smtps://HOST:PORT` speaks TLS from the first byte (port 465 by default), `smtp://HOST:PORT` by STARTTLS (port 587).
    pub server: String,
    /// The user that signs in at the mail server. Without it nobody signs in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// The password: `{ file = "…" }`, `{ env = "…" }` or `{ run = […] }`. Without it nobody signs in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<EnvValue>,
    /// A file with the certificate of the authority that the server's certificate comes from, where it is a private
    /// one. Without it only authorities that the program knows are believed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub authority: Option<PathBuf>,
    /// The server speaks no TLS: everything goes over the network in clear. Port 25 by default then, and nobody signs in.
    #[serde(default, skip_serializing_if = "is_false")]
    pub unencrypted: bool,
}

/// A facility of the system log (RFC 5424, 6.2.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Facility {
    /// System daemons.
    Daemon,
    /// User-level messages.
    User,
    /// For local use.
    Local0,
    /// For local use.
    Local1,
    /// For local use.
    Local2,
    /// For local use.
    Local3,
    /// For local use.
    Local4,
    /// For local use.
    Local5,
    /// For local use.
    Local6,
    /// For local use.
    Local7,
}

impl Facility {
    /// Its number in the protocol.
    pub fn number(self) -> u8 {
        match self {
            Self::User => 1,
            Self::Daemon => 3,
            Self::Local0 => 16,
            Self::Local1 => 17,
            Self::Local2 => 18,
            Self::Local3 => 19,
            Self::Local4 => 20,
            Self::Local5 => 21,
            Self::Local6 => 22,
            Self::Local7 => 23,
        }
    }
}

/// Whom an application's runs are told to.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "whom to tell", deny_unknown_fields)]
pub struct NotifyRule {
    /// The name of a `[notify.NAME]`.
    pub to: String,
    /// Of which events; of everything but complete runs by default.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub on: Vec<NotifyOn>,
}

impl NotifyRule {
    /// Whether it asks to be told of something.
    pub fn wants(&self, what: NotifyOn) -> bool {
        if self.on.is_empty() { what != NotifyOn::Complete } else { self.on.contains(&what) }
    }
}

/// What somebody may be told of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum NotifyOn {
    /// A run that is complete.
    Complete,
    /// A run that is complete with warnings.
    Warnings,
    /// A run that lacks a part.
    Incomplete,
    /// A run that failed.
    Failed,
    /// A run that was refused, such as while another was going on.
    Refused,
    /// A run, or anything else that was due, that did not happen.
    Missed,
    /// A run that was stopped, or died.
    Interrupted,
    /// A run that left the application held.
    NotReleased,
    /// A drill that failed.
    DrillFailed,
    /// A store in which something is damaged.
    Damaged,
    /// A definition with an error.
    Definition,
}

impl From<Outcome> for NotifyOn {
    fn from(outcome: Outcome) -> Self {
        match outcome {
            Outcome::Complete => Self::Complete,
            Outcome::Warnings => Self::Warnings,
            Outcome::Incomplete => Self::Incomplete,
            Outcome::Failed => Self::Failed,
            Outcome::Refused => Self::Refused,
            Outcome::Missed => Self::Missed,
            Outcome::Interrupted => Self::Interrupted,
            Outcome::NotReleased => Self::NotReleased,
        }
    }
}

/// A list of all applications, worst first, that is sent by a schedule.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "a report", deny_unknown_fields)]
pub struct ReportSpec {
    /// Its name, by which `gullet notify --report NAME` sends it at once.
    pub name: String,
    /// When it is sent.
    #[serde(flatten)]
    pub calendar: CalendarSpec,
    /// The names of those whom it is sent to.
    pub to: Vec<String>,
    /// The page of `gullet report` goes with mails, as a file. Without it the list is sent alone.
    #[serde(default, skip_serializing_if = "is_false")]
    pub page: bool,
}

impl ReportSpec {
    /// When it is sent, as a schedule of its name.
    pub fn schedule(&self) -> ScheduleSpec {
        self.calendar.schedule(&self.name).unwrap_or_default()
    }
}

/// Where a mail server is, and how it is spoken to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MailServer {
    /// Its name or address.
    pub host: String,
    /// The TCP port that it listens at.
    pub port: u16,
    /// Whether TLS begins with the first byte.
    pub implicit_tls: bool,
}

impl MailSpec {
    /// The server.
    ///
    /// # Errors
    /// In words, where it is none.
    pub fn server(&self) -> Result<MailServer, Reason> {
        let wrong = || Reason::new(format!("`{}` is no mail server", self.server));
        let url = url::Url::parse(&self.server).map_err(|_| wrong())?;
        let (implicit_tls, port) = match (url.scheme(), self.unencrypted) {
            ("smtps", false) => (true, 465),
            ("smtp", false) => (false, 587),
            ("smtp", true) => (false, 25),
            _ => return Err(wrong()),
        };
        let host = url.host_str().filter(|host| !host.is_empty()).ok_or_else(wrong)?;
        if !matches!(url.path(), "" | "/") || url.query().is_some() || !url.username().is_empty() {
            return Err(wrong());
        }
        let host = host.trim_start_matches('[').trim_end_matches(']').to_owned();
        Ok(MailServer { host, port: url.port().unwrap_or(port), implicit_tls })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_server_is_a_host_with_a_port_and_a_manner_of_speaking() {
        let server = |server: &str, unencrypted| {
            let spec = MailSpec { server: server.to_owned(), unencrypted, ..MailSpec::default() };
            let server = spec.server().map_err(String::from)?;
            Ok::<_, String>((server.host, server.port, server.implicit_tls))
        };
        let is = |host: &str, port, tls| Ok((host.to_owned(), port, tls));
        assert_eq!(server("smtps://mail.skerry.example", false), is("mail.skerry.example", 465, true));
        assert_eq!(server("smtp://mail.skerry.example", false), is("mail.skerry.example", 587, false));
        assert_eq!(server("smtp://[::1]:2525", true), is("::1", 2525, false));
        assert_eq!(server("smtp://localhost", true), is("localhost", 25, false));
        for wrong in ["mail.skerry.example", "https://mail.skerry.example", "smtp://", "smtp://a/b", "smtps://u@a"] {
            assert_eq!(server(wrong, false), Err(format!("`{wrong}` is no mail server")));
        }
        assert!(server("smtps://a", true).is_err(), "TLS from the first byte and none at all");
    }

    #[test]
    fn without_words_everything_is_told_but_what_went_well() {
        let rule = NotifyRule { to: "office".to_owned(), on: Vec::new() };
        assert!(!rule.wants(NotifyOn::Complete));
        assert!(rule.wants(NotifyOn::Warnings) && rule.wants(NotifyOn::Definition));
        let rule = NotifyRule { on: vec![NotifyOn::Complete], ..rule };
        assert!(rule.wants(NotifyOn::Complete) && !rule.wants(NotifyOn::Failed));
    }
}
