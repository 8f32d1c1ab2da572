//! What a PROPFIND is asked and how its answer is read (RFC 4918, sections 9.1 and 14; quota: RFC 4331).

use quick_xml::NsReader;
use quick_xml::events::Event;
use quick_xml::name::{Namespace, ResolveResult};

/// The properties that are wanted of each entry.
pub(super) const WANTED: &str = concat!(
    r#"<?xml version="1.0" encoding="utf-8"?><propfind xmlns="DAV:"><prop>"#,
    "<resourcetype/><getcontentlength/><getlastmodified/><getetag/>",
    "</prop></propfind>"
);

/// The properties that tell of space.
pub(super) const QUOTA: &str = concat!(
    r#"<?xml version="1.0" encoding="utf-8"?><propfind xmlns="DAV:"><prop>"#,
    "<quota-available-bytes/><quota-used-bytes/></prop></propfind>"
);

/// Asks for a time to be set.
pub(super) fn setting_time(http_date: &str) -> String {
    format!(
        r#"<?xml version="1.0" encoding="utf-8"?><propertyupdate xmlns="DAV:"><set><prop><getlastmodified>{http_date}</getlastmodified></prop></set></propertyupdate>"#
    )
}

/// One entry of an answer.
#[derive(Debug, Default, Clone, PartialEq, Eq)]
pub(super) struct ListedResource {
    pub(super) href: String,
    pub(super) folder: bool,
    pub(super) length: Option<u64>,
    pub(super) modified: Option<String>,
    pub(super) tag: Option<String>,
    pub(super) available: Option<u64>,
    pub(super) used: Option<u64>,
    /// The properties (by local name) that were answered with 200.
    pub(super) granted: Vec<String>,
}

/// Reads an answer.
///
/// # Errors
/// What is wrong with it, for people.
pub(super) fn read(body: &[u8]) -> Result<Vec<ListedResource>, String> {
    let mut reader = NsReader::from_reader(body);
    reader.config_mut().trim_text(true);
    let mut parse = Parse::default();
    let mut buffer = Vec::new();
    loop {
        let (namespace, event) =
            reader.read_resolved_event_into(&mut buffer).map_err(|error| error.to_string())?;
        let ours = namespace == ResolveResult::Bound(Namespace(b"DAV:"));
        match event {
            Event::Start(element) => parse.open(ours.then(|| element.local_name().as_ref().to_vec())),
            Event::Empty(element) => {
                parse.open(ours.then(|| element.local_name().as_ref().to_vec()));
                parse.close();
            }
            Event::Text(text) => parse.text.push_str(&text.decode().map_err(|error| error.to_string())?),
            Event::CData(text) => parse.text.push_str(&String::from_utf8_lossy(&text)),
            Event::GeneralRef(entity) => {
                parse.entity(&entity.decode().map_err(|error| error.to_string())?)?
            }
            Event::End(_) => parse.close(),
            Event::DocType(_) => return Err("a document type, which no honest answer has".to_owned()),
            Event::Eof => break,
            _ => {}
        }
        buffer.clear();
    }
    if parse.path.is_empty() && parse.complete {
        Ok(parse.done)
    } else {
        Err("the answer breaks off".to_owned())
    }
}

#[derive(Default)]
struct Parse {
    /// The elements that are open, by local name; `None` for those of other namespaces.
    path: Vec<Option<Vec<u8>>>,
    text: String,
    response: ListedResource,
    propstat: ListedResource,
    status: String,
    complete: bool,
    done: Vec<ListedResource>,
}

impl Parse {
    fn open(&mut self, name: Option<Vec<u8>>) {
        match name.as_deref() {
            Some(b"response") => self.response = ListedResource::default(),
            Some(b"propstat") => (self.propstat, self.status) = (ListedResource::default(), String::new()),
            Some(b"collection") if self.is_in(b"resourcetype") => self.propstat.folder = true,
            _ => {}
        }
        self.path.push(name);
        self.text.clear();
    }

    fn is_in(&self, name: &[u8]) -> bool {
        self.path.last().is_some_and(|last| last.as_deref() == Some(name))
    }

    fn entity(&mut self, name: &str) -> Result<(), String> {
        let known = match name {
            "amp" => Some('&'),
            "lt" => Some('<'),
            "gt" => Some('>'),
            "quot" => Some('"'),
            "apos" => Some('\''),
            number => number.strip_prefix('#').and_then(character),
        };
        self.text.push(known.ok_or_else(|| format!("an unknown entity: {name}"))?);
        Ok(())
    }

    fn close(&mut self) {
        let Some(name) = self.path.pop() else { return };
        let text = std::mem::take(&mut self.text);
        let in_property = self.is_in(b"prop");
        match name.as_deref() {
            Some(b"href") if self.is_in(b"response") => self.response.href = text,
            Some(b"status") if self.is_in(b"propstat") => self.status = text,
            Some(b"propstat") => self.take_propstat(),
            Some(b"response") => self.done.push(std::mem::take(&mut self.response)),
            Some(b"multistatus") => self.complete = true,
            Some(property) if in_property => self.property(property, text),
            _ => {}
        }
    }

    fn property(&mut self, name: &[u8], text: String) {
        let found = &mut self.propstat;
        match name {
            b"getcontentlength" => found.length = text.parse().ok(),
            b"getlastmodified" => found.modified = Some(text),
            b"getetag" => found.tag = Some(text),
            b"quota-available-bytes" => found.available = text.parse().ok(),
            b"quota-used-bytes" => found.used = text.parse().ok(),
            _ => {}
        }
        self.propstat.granted.push(String::from_utf8_lossy(name).into_owned());
    }

    /// Properties count only when their status says so.
    fn take_propstat(&mut self) {
        let found = std::mem::take(&mut self.propstat);
        if self.status.split_whitespace().nth(1) != Some("200") {
            return;
        }
        let response = &mut self.response;
        response.folder |= found.folder;
        response.length = found.length.or(response.length);
        response.modified = found.modified.or(response.modified.take());
        response.tag = found.tag.or(response.tag.take());
        response.available = found.available.or(response.available);
        response.used = found.used.or(response.used);
        response.granted.extend(found.granted);
    }
}

fn character(number: &str) -> Option<char> {
    let code = match number.strip_prefix(['x', 'X']) {
        Some(hex) => u32::from_str_radix(hex, 16).ok()?,
        None => number.parse().ok()?,
    };
    char::from_u32(code)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn answers_of_several_makes_are_read() {
        let body = br#"<?xml version="1.0"?><x:multistatus xmlns:x="DAV:" xmlns:o="urn:other">
            <x:response><x:href>/files/a%20b&amp;c.csv</x:href>
              <x:propstat><x:prop><x:getcontentlength>12</x:getcontentlength><x:resourcetype/>
                <o:getetag>not ours</o:getetag><x:getetag>"1-&#x41;"</x:getetag></x:prop>
                <x:status>HTTP/1.1 200 OK</x:status></x:propstat>
              <x:propstat><x:prop><x:getlastmodified>never</x:getlastmodified></x:prop>
                <x:status>HTTP/1.1 404 Not Found</x:status></x:propstat></x:response>
            <x:response><x:href><![CDATA[/files/sub/]]></x:href><x:propstat><x:prop>
                <x:resourcetype><x:collection/></x:resourcetype></x:prop>
                <x:status>HTTP/1.1 200 OK</x:status></x:propstat></x:response></x:multistatus>"#;
        let found = read(body).expect("an answer");
        assert_eq!((found[0].href.as_str(), found[0].length), ("/files/a%20b&c.csv", Some(12)));
        assert_eq!((found[0].tag.as_deref(), found[0].modified.as_deref()), (Some("\"1-A\""), None));
        assert_eq!((found[0].folder, found[1].folder), (false, true));
        assert_eq!(found[1].href, "/files/sub/");
    }

    #[test]
    fn what_breaks_off_or_would_grow_is_refused() {
        let whole =
            r#"<d:multistatus xmlns:d="DAV:"><d:response><d:href>/a</d:href></d:response></d:multistatus>"#;
        assert_eq!(read(whole.as_bytes()).expect("an answer").len(), 1);
        for length in 0..whole.len() {
            assert!(read(&whole.as_bytes()[..length]).is_err(), "{}", &whole[..length]);
        }
        let bomb = r#"<!DOCTYPE x [<!ENTITY a "aaaa">]><d:multistatus xmlns:d="DAV:">&a;</d:multistatus>"#;
        assert!(read(bomb.as_bytes()).is_err());
        assert!(read(b"<html>Welcome</html>").is_err());
    }

    #[test]
    fn fuzzed_answers() {
        let seeds: [&[u8]; 2] = [
            br#"<?xml version="1.0"?><x:multistatus xmlns:x="DAV:"><x:response><x:href>/files/a%20b&amp;c.csv</x:href>
                <x:propstat><x:prop><x:getcontentlength>12</x:getcontentlength><x:getetag>"1-&#x41;"</x:getetag></x:prop>
                <x:status>HTTP/1.1 200 OK</x:status></x:propstat></x:response></x:multistatus>"#,
            br#"<d:multistatus xmlns:d="DAV:"><d:response><d:href><![CDATA[/s/]]></d:href></d:response></d:multistatus>"#,
        ];
        reedhook_testing::fuzz("multistatus", &seeds, |body| drop(read(body)));
    }
}
