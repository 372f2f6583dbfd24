//! Taking messages to people: by mail, request, command, or a line in the system log.

use std::io;
use std::path::Path;
use std::time::Duration;

use gullet_core::notify::{Content, Courier, Message, NotSent, Report};
use gullet_host::hook::{Call, Runner};
use gullet_host::mail::{self, MailError};
use gullet_host::state::write_whole;
use gullet_host::syslog;
use gullet_host::world::World;
use gullet_model::definition::{CommandSpec, MailSpec, NotifySpec};
use lettre::message::header::{ContentType, Header, HeaderName, HeaderValue};
use lettre::message::{Attachment, MultiPart, SinglePart};
use serde_json::json;

use crate::render::message::{line, page, subject, text};

/// How long sending one message may take, where the definition does not say.
const LIMIT: Duration = Duration::from_secs(30);

/// The couriers of the definition.
pub struct Post<'a> {
    /// The outside world.
    pub world: World<'a>,
    /// The state folder.
    pub state: &'a Path,
}

impl Courier for Post<'_> {
    fn send(
        &mut self,
        spec: &NotifySpec,
        message: &Message,
        commit: &mut dyn FnMut() -> io::Result<()>,
    ) -> Result<Vec<String>, NotSent> {
        let limit = spec.limit.map_or(LIMIT, |limit| limit.0);
        if let Some(mail) = &spec.mail {
            let host = &self.world.host.name;
            let bytes = compose(mail, message, host).map_err(|error| NotSent::certainly(error.to_string()))?;
            return mail::send(mail, &bytes, limit, self.world.environment, host, commit).map_err(|error| NotSent {
                why: gullet_model::words::chain(&error),
                is_certain: !matches!(error, MailError::Unanswered { .. }),
            });
        }
        if let Some(facility) = spec.syslog {
            let (gravity, line) = line(message);
            let logged = syslog::log(facility, gravity, &line);
            let why = |error| NotSent::certainly(format!("the system log does not listen: {error}"));
            return logged.map(|()| Vec::new()).map_err(why);
        }
        self.call(spec, message, limit, commit).map(|()| Vec::new())
    }
}

impl Post<'_> {
    /// A request or a command.
    fn call(
        &self,
        spec: &NotifySpec,
        message: &Message,
        limit: Duration,
        commit: &mut dyn FnMut() -> io::Result<()>,
    ) -> Result<(), NotSent> {
        let body = as_json(message).to_string();
        let mut command = CommandSpec {
            run: spec.run.clone(),
            post: spec.post.clone(),
            request: spec.request.clone(),
            env: spec.env.clone(),
            run_as: spec.run_as.clone(),
            ..CommandSpec::default()
        };
        let folder = self.state.join("notify");
        let stdin = folder.join("message.json");
        if spec.post.is_some() {
            // Nothing in it is a placeholder.
            command.request.body = Some(body.replace('{', "{{"));
        } else {
            write_whole(&stdin, body.as_bytes()).map_err(|error| NotSent::certainly(error.to_string()))?;
        }
        let runner = Runner { run: message.id.clone(), folder, ..Runner::apart(self.world, "", self.state) };
        let stdin = spec.run.is_some().then(|| stdin.clone());
        if let Some(url) = &spec.post {
            reach(url, limit).map_err(NotSent::certainly)?;
        }
        commit().map_err(|error| NotSent::certainly(error.to_string()))?;
        let outcome = runner.run(&command, Call { moment: "notify", limit, stdin, ..Call::default() });
        // A server that answers otherwise than with success, and a command that fails, say that they did not take it.
        let is_certain = spec.run.is_some() || outcome.answer.is_some();
        outcome.result.map_err(|why| NotSent { why: why.into(), is_certain })
    }
}

/// Whether somebody listens at a URL; else nothing of the message has left this machine.
fn reach(url: &str, limit: Duration) -> Result<(), String> {
    let wrong = |why: &dyn std::fmt::Display| format!("{url}: {why}");
    let parsed = url::Url::parse(url).map_err(|error| wrong(&error))?;
    let addresses = parsed.socket_addrs(|| None).map_err(|error| wrong(&error))?;
    let mut last = "it has no address".to_owned();
    for address in addresses {
        match std::net::TcpStream::connect_timeout(&address, limit) {
            Ok(_) => return Ok(()),
            Err(error) => last = error.to_string(),
        }
    }
    Err(wrong(&last))
}

/// A message as JSON: what it tells, and the same in words.
pub fn as_json(message: &Message) -> serde_json::Value {
    let mut content = message.content.clone();
    // The page goes with mails only: whoever reads JSON has its figures.
    if let Content::Report(report) = &mut content {
        report.page = None;
    }
    json!({
        "id": message.id,
        "to": message.to,
        "subject": subject(message),
        "text": text(message),
        "may_have_come_before": message.may_be_sent,
        "content": content,
    })
}

/// Says that no person wrote it (RFC 3834), so that nobody is answered who is on holiday.
#[derive(Clone)]
struct AutoSubmitted;

impl Header for AutoSubmitted {
    fn name() -> HeaderName {
        HeaderName::new_from_ascii_str("Auto-Submitted")
    }

    fn parse(_: &str) -> Result<Self, Box<dyn std::error::Error + Send + Sync>> {
        Ok(Self)
    }

    fn display(&self) -> HeaderValue {
        HeaderValue::new(Self::name(), "auto-generated".to_owned())
    }
}

/// A whole mail (RFC 5322), with a text and a page. Its id is that of the message, so that whoever gets it twice can see that.
pub fn compose(
    spec: &MailSpec,
    message: &Message,
    host: &str,
) -> Result<Vec<u8>, Box<dyn std::error::Error + Send + Sync>> {
    let mut builder = lettre::Message::builder()
        .from(spec.from.parse()?)
        .subject(subject(message))
        .message_id(Some(format!("<{}.{}@{host}>", message.id, message.to)))
        .header(AutoSubmitted);
    for to in &spec.to {
        builder = builder.to(to.parse()?);
    }
    let part = |kind: ContentType, body: String| SinglePart::builder().header(kind).body(body);
    let parts = MultiPart::alternative()
        .singlepart(part(ContentType::TEXT_PLAIN, text(message)))
        .singlepart(part(ContentType::TEXT_HTML, page(message)));
    let Content::Report(Report { name, page: Some(page), .. }) = &message.content else {
        return Ok(builder.multipart(parts)?.formatted());
    };
    let file = Attachment::new(format!("gullet-{name}.html")).body(page.clone(), ContentType::TEXT_HTML);
    Ok(builder.multipart(MultiPart::mixed().multipart(parts).singlepart(file))?.formatted())
}
