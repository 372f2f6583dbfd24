//! Rules of who is told of what.

use super::Rules;
use crate::definition::check::nearest;
use crate::definition::flaw::key_path;
use crate::definition::{CalendarSpec, Definition, EnvValue, MailSpec};

impl Rules<'_> {
    pub(super) fn notify(&mut self, definition: &Definition) {
        for (name, spec) in &definition.notify {
            let at = key_path(&[&"notify", name]);
            self.name(&at, "somebody to tell", name);
            let ways = [spec.mail.is_some(), spec.post.is_some(), spec.run.is_some(), spec.syslog.is_some()];
            if ways.into_iter().filter(|is_there| *is_there).count() != 1 {
                let hint = "mail = { … }, post = \"https://…\", run = [\"…\"] or syslog = \"daemon\"".to_owned();
                self.flaw(&at, "say one way of telling: `mail`, `post`, `run` or `syslog`".to_owned(), Some(hint));
            }
            if let Some(mail) = &spec.mail {
                self.mail(&format!("{at}/mail"), mail);
            }
            if spec.post.as_ref().is_some_and(|url| !url.starts_with("http://") && !url.starts_with("https://")) {
                self.flaw(&format!("{at}/post"), "this is no URL of `http://` or `https://`".to_owned(), None);
            }
            if spec.run.as_ref().is_some_and(Vec::is_empty) {
                self.flaw(&format!("{at}/run"), "there is no program".to_owned(), None);
            }
        }
        for (app, spec) in &definition.app {
            for (number, rule) in spec.notify.iter().enumerate() {
                self.is_to_tell(definition, &key_path(&[&"app", app, &"notify", &number, &"to"]), &rule.to);
            }
        }
        for (number, report) in definition.report.iter().enumerate() {
            let at = key_path(&[&"report", &number]);
            self.name(&at, "a report", &report.name);
            if definition.report[..number].iter().any(|other| other.name == report.name) {
                let message = format!("there is a report `{}` already", report.name);
                self.flaw(&format!("{at}/name"), message, None);
            }
            if report.calendar == CalendarSpec::default() {
                let hint = "every = \"day\", at = \"07:00\", zone = \"Europe/Lisbon\"".to_owned();
                self.flaw(&at, "it is not said when the report is sent".to_owned(), Some(hint));
            }
            self.calendar(&at, &report.calendar);
            if report.to.is_empty() {
                self.flaw(&format!("{at}/to"), "nobody is told".to_owned(), None);
            }
            for (which, name) in report.to.iter().enumerate() {
                self.is_to_tell(definition, &format!("{at}/to/{which}"), name);
            }
        }
    }

    fn is_to_tell(&mut self, definition: &Definition, at: &str, name: &str) {
        if !definition.notify.contains_key(name) {
            let hint = nearest(name, definition.notify.keys().map(String::as_str));
            let hint = hint.map_or_else(
                || {
                    format!(
                        "[notify.{name}]\nmail = {{ … }}, post = \"https://…\", run = [\"…\"] or syslog = \"daemon\""
                    )
                },
                |near| format!("did you mean \"{near}\"?"),
            );
            self.flaw(at, format!("there is no `[notify.{name}]`"), Some(hint));
        }
    }

    fn mail(&mut self, at: &str, mail: &MailSpec) {
        if let Err(message) = mail.server() {
            let hint = "smtps://mail.skerry.example, or smtp://mail.skerry.example:587 for STARTTLS; without TLS \
                        `unencrypted = true` and smtp://";
            self.flaw(&format!("{at}/server"), message.to_string(), Some(hint.to_owned()));
        }
        if mail.to.is_empty() {
            self.flaw(&format!("{at}/to"), "there is no address".to_owned(), None);
        }
        let to = mail.to.iter().enumerate().map(|(number, address)| (format!("{at}/to/{number}"), address));
        for (at, address) in to.chain([(format!("{at}/from"), &mail.from)]) {
            if !looks_like_an_address(address) {
                self.flaw(&at, format!("`{address}` is no mail address"), Some("operations@skerry.example".to_owned()));
            }
        }
        if mail.user.is_some() != mail.password.is_some() {
            self.flaw(at, "`user` and `password` belong together".to_owned(), None);
        }
        if mail.unencrypted && mail.user.is_some() {
            self.flaw(at, "a password is not sent over a connection without TLS".to_owned(), None);
        }
        if matches!(mail.password, Some(EnvValue::Plain(_))) {
            let hint = "password = { file = \"/etc/gullet/mail\" }".to_owned();
            self.flaw(&format!("{at}/password"), "a password does not belong into a definition".to_owned(), Some(hint));
        }
    }
}

/// Whether a text has the shape of an address (RFC 5321, 4.1.2); whether there is one is told by its server alone.
fn looks_like_an_address(text: &str) -> bool {
    let plain = |c: char| !c.is_whitespace() && !c.is_control() && !matches!(c, '<' | '>' | ',' | ';' | '"');
    let pair = text.rsplit_once('@');
    pair.is_some_and(|(local, domain)| !local.is_empty() && !domain.is_empty()) && text.chars().all(plain)
}
