//! Handing a mail to a server (SMTP, RFC 5321; STARTTLS, RFC 3207; implicit TLS, RFC 8314; sign-in, RFC 4954).
//!
//! What may fail early is done before anything of the message leaves the machine; the moment at which the server may have taken it is
//! told to the caller before it begins, so that who dies after it knows that it is in doubt, and nobody else is.

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::net::{SocketAddr, ToSocketAddrs};
use std::time::Duration;

use gullet_model::definition::{EnvValue, MailServer, MailSpec};
use gullet_model::{Reason, ReasonAbout};
use lettre::Address;
use lettre::transport::smtp::authentication::{Credentials, Mechanism};
use lettre::transport::smtp::client::{Certificate, CertificateStore, SmtpConnection, TlsParameters};
use lettre::transport::smtp::commands::{Data, Mail, Rcpt};
use lettre::transport::smtp::extension::{ClientId, Extension, MailBodyParameter, MailParameter};

use crate::hook::secret::resolve as resolve_secrets;

/// A mail could not be handed over.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum MailError {
    /// What the definition says cannot be used.
    #[error("{0}")]
    Definition(Reason),
    /// The server cannot be reached, does not answer, or cannot be trusted.
    #[error("{server}: {step}: {why}")]
    Server {
        /// Host and port.
        server: String,
        /// What was being done.
        step: &'static str,
        /// What went wrong.
        why: String,
    },
    /// The server takes mail for none of the addresses.
    #[error("{server} takes it for nobody: {}", refused.join("; "))]
    Nobody {
        /// Host and port.
        server: String,
        /// Each address and what the server said.
        refused: Vec<String>,
    },
    /// The server has heard all of it, and its answer did not come.
    #[error("{server} did not say whether it took the message: {why}")]
    Unanswered {
        /// Host and port.
        server: String,
        /// What went wrong.
        why: String,
    },
    /// The caller could not note that it is about to be sent.
    #[error("it cannot be noted that it is about to be sent")]
    Note(#[source] io::Error),
}

/// Hands a whole message, as it is defined by RFC 5322, to the server. Gives the addresses that the server refused, with its words.
///
/// `commit` is called when the server has agreed to take it and nothing of it was sent yet.
///
/// # Errors
/// When nobody gets it.
pub fn send(
    spec: &MailSpec,
    message: &[u8],
    limit: Duration,
    environment: &BTreeMap<String, String>,
    host: &str,
    commit: &mut dyn FnMut() -> io::Result<()>,
) -> Result<Vec<String>, MailError> {
    let server = spec.server().map_err(MailError::Definition)?;
    let name = format!("{}:{}", server.host, server.port);
    let fail = |step: &'static str| {
        let server = name.clone();
        move |why: &dyn std::error::Error| MailError::Server { server: server.clone(), step, why: with_causes(why) }
    };
    let from = address(&spec.from)?;
    let to = spec.to.iter().map(|to| address(to)).collect::<Result<Vec<_>, _>>()?;
    let credentials = credentials(spec, environment)?;
    let mut connection = connect(spec, &server, limit, host, &name)?;
    if let Some(credentials) = credentials {
        let mechanisms = [Mechanism::Plain, Mechanism::Login];
        connection.auth(&mechanisms, &credentials).map_err(|error| fail("signing in")(&error))?;
    }
    let mut parameters = Vec::new();
    if !message.is_ascii() {
        if !connection.server_info().supports_feature(Extension::EightBitMime) {
            return Err(MailError::Definition(Reason::new(
                "the message is not ASCII, and the server takes nothing else",
            )));
        }
        parameters.push(MailParameter::Body(MailBodyParameter::EightBitMime));
    }
    connection.command(Mail::new(Some(from), parameters)).map_err(|error| fail("naming the sender")(&error))?;
    let mut refused = Vec::new();
    for to in &to {
        match connection.command(Rcpt::new(to.clone(), Vec::new())) {
            Ok(_) => {}
            // Others may be known there. An answer that never came is another matter.
            Err(error) if error.is_permanent() || error.is_transient() => {
                refused.push(format!("{to}: {}", with_causes(&error)));
            }
            Err(error) => return Err(fail("naming the recipients")(&error)),
        }
    }
    if refused.len() == to.len() {
        let _ = connection.quit();
        return Err(MailError::Nobody { server: name, refused });
    }
    connection.command(Data).map_err(|error| fail("sending")(&error))?;
    commit().map_err(MailError::Note)?;
    connection.message(message).map_err(|error| {
        // A server that says no does not have it.
        if error.is_permanent() || error.is_transient() {
            return fail("sending")(&error);
        }
        MailError::Unanswered { server: name.clone(), why: with_causes(&error) }
    })?;
    // It is taken; what comes of saying good-bye changes nothing.
    let _ = connection.quit();
    Ok(refused)
}

fn connect(
    spec: &MailSpec,
    server: &MailServer,
    limit: Duration,
    host: &str,
    name: &str,
) -> Result<SmtpConnection, MailError> {
    let fail = |step: &'static str, why: String| MailError::Server { server: name.to_owned(), step, why };
    let addresses: Vec<SocketAddr> = (server.host.as_str(), server.port)
        .to_socket_addrs()
        .map_err(|error| fail("looking up its address", error.to_string()))?
        .collect();
    let hello = ClientId::Domain(host.to_owned());
    let tls = if spec.unencrypted { None } else { Some(tls(spec, server)?) };
    let begins_with = tls.as_ref().filter(|_| server.implicit_tls);
    let connected = SmtpConnection::connect(addresses.as_slice(), Some(limit), &hello, begins_with, None);
    let mut connection = connected.map_err(|error| fail("connecting", with_causes(&error)))?;
    if let Some(tls) = tls.filter(|_| !server.implicit_tls) {
        if !connection.can_starttls() {
            let why = "it offers no STARTTLS; nothing is sent in clear".to_owned();
            return Err(fail("connecting", why));
        }
        connection.starttls(&tls, &hello).map_err(|error| fail("STARTTLS", with_causes(&error)))?;
    }
    Ok(connection)
}

fn tls(spec: &MailSpec, server: &MailServer) -> Result<TlsParameters, MailError> {
    let mut builder = TlsParameters::builder(server.host.clone());
    if let Some(path) = &spec.authority {
        let wrong =
            |why: &dyn std::fmt::Display| MailError::Definition(Reason::new(format!("`{}`: {why}", path.display())));
        let pem = fs::read(path).map_err(|error| wrong(&error))?;
        let authority = Certificate::from_pem(&pem).map_err(|error| wrong(&error))?;
        builder = builder.certificate_store(CertificateStore::None).add_root_certificate(authority);
    }
    builder.build().map_err(|error| MailError::Definition(error.into()))
}

fn credentials(spec: &MailSpec, environment: &BTreeMap<String, String>) -> Result<Option<Credentials>, MailError> {
    let (Some(user), Some(password)) = (&spec.user, &spec.password) else { return Ok(None) };
    let named: BTreeMap<String, EnvValue> = BTreeMap::from([("password".to_owned(), password.clone())]);
    let mut resolved = resolve_secrets(&named, environment).map_err(|error| MailError::Definition(error.into()))?;
    let password = resolved.env.remove("password").unwrap_or_default();
    Ok(Some(Credentials::new(user.clone(), password)))
}

fn address(text: &str) -> Result<Address, MailError> {
    text.parse().about(format_args!("`{text}` is no mail address")).map_err(MailError::Definition)
}

/// An error with all its causes, on one line.
fn with_causes(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut next = error.source();
    while let Some(cause) = next {
        let cause_text = cause.to_string();
        if !text.contains(&cause_text) {
            text = format!("{text}: {cause_text}");
        }
        next = cause.source();
    }
    text
}
