//! Versions of objects in a bucket, and their locks (S3: object lock).

use std::io;
use std::time::Duration;

use jiff::Timestamp;
use object_store::path::Path as Key;
use quick_xml::Reader;
use quick_xml::escape::resolve_predefined_entity;
use quick_xml::events::{BytesRef, Event};
use ureq::http::{Response, StatusCode};

use super::super::versioned::{ObjectVersion, Versioned};
use super::Bucket;
use super::signed::{Asked, COMPLIANCE, MODE, UNTIL, in_path, written};
use crate::error::StoreError;

/// One tag with what stands in it, of a list of versions.
#[derive(Default)]
struct VersionEntry {
    key: String,
    version: String,
    made: String,
    is_newest: bool,
    length: u64,
    tag: String,
}

/// One page of a list of versions, and where the next one begins.
#[derive(Default)]
struct VersionPage {
    entries: Vec<(VersionEntry, bool)>,
    next: Option<(String, String)>,
}

impl Bucket {
    fn key(&self, name: &str) -> String {
        self.objects.key(name).to_string()
    }

    fn ask(&self, name: &str, asked: Asked<'_>) -> Result<Response<Vec<u8>>, StoreError> {
        self.signed.ask(asked).map_err(|error| self.objects.unanswered(name, error))
    }

    /// An answer that did what was asked; a copy may fail with status 200.
    fn done(&self, name: &str, answer: &Response<Vec<u8>>) -> Result<(), StoreError> {
        let said = text_in(answer.body(), "Message").or_else(|| text_in(answer.body(), "Code"));
        match (answer.status().is_success(), said) {
            (true, None) => Ok(()),
            (_, Some(said)) => {
                Err(self.objects.in_words(name, io::Error::other(format!("the server answered: {said}"))))
            }
            (_, None) => {
                let text = format!("the server answered with status {}", answer.status().as_u16());
                Err(self.objects.in_words(name, io::Error::other(text)))
            }
        }
    }

    fn page(&self, from: Option<&(String, String)>) -> Result<VersionPage, StoreError> {
        let prefix = self.key("");
        let prefix = if prefix.is_empty() { prefix } else { format!("{prefix}/") };
        let mut query = vec![("versions", ""), ("prefix", prefix.as_str())];
        if let Some((key, version)) = from {
            query.extend([("key-marker", key.as_str()), ("version-id-marker", version.as_str())]);
        }
        let asked = Asked { method: "GET", key: "", query: &query, headers: &[], body: String::new() };
        let answer = self.ask("", asked)?;
        self.done("", &answer)?;
        page_in(answer.body())
            .map_err(|error| self.objects.in_words("", io::Error::new(io::ErrorKind::InvalidData, error)))
    }
}

impl Versioned for Bucket {
    fn locked_for(&self) -> Option<Duration> {
        self.signed.locked_for
    }

    fn lock(&self, name: &str, until: Timestamp) -> Result<(), StoreError> {
        let body = format!(
            "<Retention xmlns=\"http://s3.amazonaws.com/doc/2006-03-01/\"><Mode>{COMPLIANCE}</Mode><RetainUntilDate>{}\
             </RetainUntilDate></Retention>",
            written(until)
        );
        let query = [("retention", "")];
        let answer =
            self.ask(name, Asked { method: "PUT", key: &self.key(name), query: &query, headers: &[], body })?;
        self.done(name, &answer)
    }

    fn locked_until(&self, name: &str) -> Result<Option<Timestamp>, StoreError> {
        let asked = Asked { method: "HEAD", key: &self.key(name), query: &[], headers: &[], body: String::new() };
        let answer = self.ask(name, asked)?;
        if answer.status() == StatusCode::NOT_FOUND {
            return Err(StoreError::Missing { name: name.to_owned() });
        }
        self.done(name, &answer)?;
        let said = |header| answer.headers().get(header).and_then(|value| value.to_str().ok());
        let until = said(UNTIL).filter(|_| said(MODE) == Some(COMPLIANCE));
        Ok(until.and_then(|until| until.parse().ok()))
    }

    fn versions(&self) -> Result<Vec<ObjectVersion>, StoreError> {
        let (mut found, mut from) = (Vec::new(), None);
        loop {
            let page = self.page(from.as_ref())?;
            for (entry, is_removal) in page.entries {
                let name = self.objects.name_of(&Key::from(entry.key.as_str()));
                let made = entry.made.parse().map_err(|_| {
                    let text = format!("the server does not say when a version was made: `{}`", entry.made);
                    self.objects.in_words(&name, io::Error::new(io::ErrorKind::InvalidData, text))
                })?;
                let VersionEntry { version, is_newest, length, tag, .. } = entry;
                found.push(ObjectVersion { name, version, made, is_newest, is_removal, length, tag });
            }
            if page.next.is_none() || page.next == from {
                break;
            }
            from = page.next;
        }
        // A list of removals may stand apart from that of versions.
        found.sort_by(|one, other| {
            one.name.cmp(&other.name).then(other.is_newest.cmp(&one.is_newest)).then(other.made.cmp(&one.made))
        });
        Ok(found)
    }

    fn bring_back(&self, version: &ObjectVersion) -> Result<(), StoreError> {
        let key = self.key(&version.name);
        let source = in_path(&format!("{}/{key}", self.name));
        let headers = [("x-amz-copy-source", format!("/{source}?versionId={}", version.version))];
        let asked = Asked { method: "PUT", key: &key, query: &[], headers: &headers, body: String::new() };
        let answer = self.ask(&version.name, asked)?;
        self.done(&version.name, &answer)
    }
}

/// What stands in the first tag of this name.
fn text_in(xml: &[u8], tag: &str) -> Option<String> {
    let mut reader = Reader::from_reader(xml);
    let mut is_inside = false;
    loop {
        match reader.read_event().ok()? {
            Event::Start(start) if start.local_name().as_ref() == tag.as_bytes() => is_inside = true,
            Event::Text(text) if is_inside => return text.decode().ok().map(|text| text.trim().to_owned()),
            Event::Eof => return None,
            _ => {}
        }
    }
}

/// A character that is written by its name or by its number.
fn character(name: &BytesRef<'_>) -> Result<String, quick_xml::Error> {
    if let Some(character) = name.resolve_char_ref()? {
        return Ok(character.to_string());
    }
    let name = name.decode()?;
    Ok(resolve_predefined_entity(&name).map_or_else(|| format!("&{name};"), str::to_owned))
}

fn page_in(xml: &[u8]) -> Result<VersionPage, quick_xml::Error> {
    let mut reader = Reader::from_reader(xml);
    let mut page = VersionPage::default();
    let (mut next_key, mut next_version, mut is_cut) = (String::new(), String::new(), false);
    let (mut path, mut entry, mut value) = (Vec::new(), VersionEntry::default(), String::new());
    loop {
        match reader.read_event()? {
            Event::Start(start) => {
                path.push(String::from_utf8_lossy(start.local_name().as_ref()).into_owned());
                value.clear();
            }
            Event::Text(text) => value.push_str(&text.decode().map_err(quick_xml::Error::from)?),
            Event::GeneralRef(name) => value.push_str(&character(&name)?),
            Event::End(_) => {
                let tag = path.pop().unwrap_or_default();
                let inside = path.last().map(String::as_str);
                match (inside, tag.as_str()) {
                    (Some("Version" | "DeleteMarker"), "Key") => entry.key = std::mem::take(&mut value),
                    (Some("Version" | "DeleteMarker"), "VersionId") => entry.version = std::mem::take(&mut value),
                    (Some("Version" | "DeleteMarker"), "LastModified") => entry.made = std::mem::take(&mut value),
                    (Some("Version" | "DeleteMarker"), "IsLatest") => entry.is_newest = value == "true",
                    (Some("Version"), "ETag") => entry.tag = std::mem::take(&mut value).trim_matches('"').to_owned(),
                    (Some("Version"), "Size") => entry.length = value.parse().unwrap_or(0),
                    (_, "Version") => page.entries.push((std::mem::take(&mut entry), false)),
                    (_, "DeleteMarker") => page.entries.push((std::mem::take(&mut entry), true)),
                    (_, "IsTruncated") => is_cut = value == "true",
                    (_, "NextKeyMarker") => next_key = std::mem::take(&mut value),
                    (_, "NextVersionIdMarker") => next_version = std::mem::take(&mut value),
                    _ => {}
                }
            }
            Event::Eof => break,
            _ => {}
        }
    }
    page.next = is_cut.then_some((next_key, next_version));
    Ok(page)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_page_of_versions_is_read_whatever_its_order() {
        let xml = "<?xml version=\"1.0\"?><ListVersionsResult xmlns=\"http://s3.amazonaws.com/doc/2006-03-01/\"><Name>safe</Name>\
                   <IsTruncated>true</IsTruncated><NextKeyMarker>quay/b</NextKeyMarker><NextVersionIdMarker>v1</NextVersionIdMarker>\
                   <DeleteMarker><Key>quay/a</Key><VersionId>d1</VersionId><IsLatest>true</IsLatest>\
                   <LastModified>2026-11-29T15:19:27.000Z</LastModified><Owner><ID>x</ID></Owner></DeleteMarker>\
                   <Version><Key>quay/a</Key><VersionId>v1</VersionId><IsLatest>false</IsLatest>\
                   <LastModified>2026-11-29T15:19:22.500Z</LastModified><ETag>&quot;abc&quot;</ETag><Size>7</Size></Version>\
                   <Version><Key>quay/b &amp; c</Key><VersionId>null</VersionId><IsLatest>true</IsLatest>\
                   <LastModified>2026-11-29T15:19:22Z</LastModified><ETag>\"def\"</ETag><Size>9</Size></Version></ListVersionsResult>";
        let page = page_in(xml.as_bytes()).unwrap();
        assert_eq!(page.next, Some(("quay/b".to_owned(), "v1".to_owned())));
        let seen: Vec<(&str, &str, bool, bool, u64, &str)> = page
            .entries
            .iter()
            .map(|(entry, is_removal)| {
                let VersionEntry { key, version, is_newest, length, tag, .. } = entry;
                (key.as_str(), version.as_str(), *is_newest, *is_removal, *length, tag.as_str())
            })
            .collect();
        let wanted = [
            ("quay/a", "d1", true, true, 0, ""),
            ("quay/a", "v1", false, false, 7, "abc"),
            ("quay/b & c", "null", true, false, 9, "def"),
        ];
        assert_eq!(seen, wanted);
        assert!(page_in(b"<ListVersionsResult><Version><Key>a</Version>").is_err());
        assert_eq!(page_in(b"<ListVersionsResult></ListVersionsResult>").unwrap().next, None);
    }

    #[test]
    fn the_first_text_of_a_tag_is_found() {
        let xml = b"<Error><Code>AccessDenied</Code><Message>no, not &quot;that&quot;</Message></Error>";
        assert_eq!(text_in(xml, "Code").as_deref(), Some("AccessDenied"));
        assert_eq!(text_in(xml, "Bucket"), None);
        assert_eq!(text_in(b"", "Code"), None);
    }
}
