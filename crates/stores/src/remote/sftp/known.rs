//! Files of known hosts, read as OpenSSH reads them (sshd(8), "SSH_KNOWN_HOSTS FILE FORMAT").
//!
//! A line is `[marker] hosts type key [comment]`. Hosts are patterns with `*`, `?` and `!`, separated by commas, or one hashed name
//! (`|1|salt|HMAC-SHA1`). A line that cannot be read is passed over, as ssh does. A key that is marked `@revoked` is refused even where
//! another line has it; a host has changed only when lines of the same type know it and none has the key that it shows.

use std::path::{Path, PathBuf};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, KeyInit, Mac};
use russh::keys::{Algorithm, PublicKey, parse_public_key_base64};
use sha1::Sha1;

/// What the files say of a key that a host shows.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Verdict {
    /// It is the host's.
    Known,
    /// Nothing is known of such a key of this host.
    Unknown,
    /// Another key of the same type is known, at this line of this file.
    Changed(PathBuf, usize),
    /// It has been withdrawn, at this line of this file.
    Revoked(PathBuf, usize),
    /// This file may say anything: it is there and cannot be read.
    Unread(PathBuf, String),
}

/// What a line says of the keys that it names.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Marker {
    /// The host shows this key.
    Plain,
    /// Certificates of the host are signed by this key; of its plain keys it says nothing.
    Authority,
    /// Whoever shows this key is not the host.
    Revoked,
}

/// A line that is about the host.
struct KnownHost {
    marker: Marker,
    key: PublicKey,
    file: PathBuf,
    /// Counted from 1, with everything that is in the file.
    number: usize,
}

/// What files of known hosts say of one host.
pub(super) struct KnownHosts {
    lines: Vec<KnownHost>,
    /// What they say of the host at the usual port, which counts only where it agrees.
    elsewhere: Vec<KnownHost>,
    /// The first file that is there and cannot be read.
    unread: Option<(PathBuf, String)>,
}

impl KnownHosts {
    /// Reads what the files say; one that is not there says nothing.
    pub(super) fn of(host: &str, port: u16, files: &[PathBuf]) -> KnownHosts {
        let host = host.to_ascii_lowercase();
        let name = if port == 22 { host.clone() } else { format!("[{host}]:{port}") };
        let mut known = KnownHosts { lines: Vec::new(), elsewhere: Vec::new(), unread: None };
        for file in files {
            match read_text(file) {
                Ok(text) => {
                    known.lines.extend(lines_about(&name, file, &text));
                    known.elsewhere.extend(lines_about(&host, file, &text).filter(|_| port != 22));
                }
                Err(error) => {
                    known.unread.get_or_insert_with(|| (file.clone(), error.to_string()));
                }
            }
        }
        known
    }

    /// The types of the keys that are known of the host: it is asked for one of these.
    pub(super) fn algorithms(&self) -> Vec<Algorithm> {
        let plain = |line: &&KnownHost| line.marker == Marker::Plain;
        let lines = if self.lines.is_empty() { &self.elsewhere } else { &self.lines };
        lines.iter().filter(plain).map(|line| line.key.algorithm()).collect()
    }

    /// Judges a key that the host shows.
    pub(super) fn judge(&self, key: &PublicKey) -> Verdict {
        let is_it = |line: &&KnownHost| line.key.key_data() == key.key_data();
        let all = || self.lines.iter().chain(&self.elsewhere);
        if let Some(line) = all().filter(|line| line.marker == Marker::Revoked).find(is_it) {
            return Verdict::Revoked(line.file.clone(), line.number);
        }
        let plain = |line: &&KnownHost| line.marker == Marker::Plain;
        // It may withdraw the key, or know another one.
        if let Some((file, why)) = &self.unread {
            return Verdict::Unread(file.clone(), why.clone());
        }
        if all().filter(plain).any(|line| is_it(&line)) {
            return Verdict::Known;
        }
        let same_type = |line: &&KnownHost| is_same_type(&line.key.algorithm(), &key.algorithm());
        match self.lines.iter().filter(plain).find(same_type) {
            Some(line) => Verdict::Changed(line.file.clone(), line.number),
            None => Verdict::Unknown,
        }
    }
}

/// Whether two algorithms are for one type of key: RSA keys are used with several hashes.
pub(super) fn is_same_type(one: &Algorithm, other: &Algorithm) -> bool {
    one == other || matches!((one, other), (Algorithm::Rsa { .. }, Algorithm::Rsa { .. }))
}

/// What a file holds; nothing where there is none. Comments need not be UTF-8.
fn read_text(file: &Path) -> std::io::Result<String> {
    match std::fs::read(file) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(String::new()),
        bytes => Ok(String::from_utf8_lossy(&bytes?).into_owned()),
    }
}

fn lines_about<'a>(name: &'a str, file: &'a Path, text: &'a str) -> impl Iterator<Item = KnownHost> + 'a {
    let read = text.lines().enumerate().filter_map(move |(at, line)| Some((at + 1, read_line(name, line)?)));
    read.map(move |(number, (marker, key))| KnownHost { marker, key, file: file.to_owned(), number })
}

/// What a line says, when it is about this name.
fn read_line(name: &str, line: &str) -> Option<(Marker, PublicKey)> {
    let mut words = line.split([' ', '\t']).filter(|word| !word.is_empty());
    let first = words.next().filter(|word| !word.starts_with('#'))?;
    let (marker, hosts) = match first {
        "@revoked" => (Marker::Revoked, words.next()?),
        "@cert-authority" => (Marker::Authority, words.next()?),
        marker if marker.starts_with('@') => return None,
        hosts => (Marker::Plain, hosts),
    };
    if !is_about(name, hosts) {
        return None;
    }
    let (_type, key) = (words.next()?, words.next()?);
    Some((marker, parse_public_key_base64(key).ok()?))
}

fn is_about(name: &str, hosts: &str) -> bool {
    if let Some(hashed) = hosts.strip_prefix("|1|") {
        return is_hash_of(name, hashed).unwrap_or(false);
    }
    let mut found = false;
    for pattern in hosts.split(',') {
        match pattern.strip_prefix('!') {
            Some(not) if matches(not, name) => return false,
            Some(_) => {}
            None => found |= matches(pattern, name),
        }
    }
    found
}

fn is_hash_of(name: &str, hashed: &str) -> Option<bool> {
    let (salt, hash) = hashed.split_once('|')?;
    let mut made = Hmac::<Sha1>::new_from_slice(&STANDARD.decode(salt).ok()?).ok()?;
    made.update(name.as_bytes());
    Some(made.finalize().into_bytes().as_slice() == STANDARD.decode(hash).ok()?)
}

/// Whether a pattern with `*` and `?` stands for a name; case does not count. After a `*` that took too little, it takes one more: only the
/// last one has to, so that a line of stars costs no more than its length times the name's.
fn matches(pattern: &str, name: &str) -> bool {
    let (pattern, name) = (pattern.as_bytes(), name.as_bytes());
    let (mut at, mut here) = (0, 0);
    let mut star = None;
    while here < name.len() {
        match pattern.get(at) {
            Some(b'*') => {
                star = Some((at, here));
                at += 1;
            }
            Some(one) if *one == b'?' || one.eq_ignore_ascii_case(&name[here]) => {
                at += 1;
                here += 1;
            }
            _ => {
                let Some((after, taken)) = star else { return false };
                star = Some((after, taken + 1));
                (at, here) = (after + 1, taken + 1);
            }
        }
    }
    pattern[at..].iter().all(|rest| *rest == b'*')
}

#[cfg(test)]
mod tests {
    use std::process::Command;

    use super::*;

    /// Three keys, made up for this.
    const KEYS: [&str; 3] = [
        "AAAAC3NzaC1lZDI1NTE5AAAAIAABAgMEBQYHCAkKCwwNDg8QERITFBUWFxgZGhscHR4f",
        "AAAAC3NzaC1lZDI1NTE5AAAAICAhIiMkJSYnKCkqKywtLi8wMTIzNDU2Nzg5Ojs8PT4/",
        "AAAAC3NzaC1lZDI1NTE5AAAAIEBBQkNERUZHSElKS0xNTk9QUVJTVFVWV1hZWltcXV5f",
    ];

    fn key(number: usize) -> PublicKey {
        parse_public_key_base64(KEYS[number]).unwrap()
    }

    /// A file in which `K0` to `K2` stand for the keys.
    fn file(text: &str) -> tempfile::NamedTempFile {
        let file = tempfile::NamedTempFile::new().unwrap();
        let named = (0..3).fold(text.to_owned(), |text, number| {
            text.replace(&format!("K{number}"), &format!("ssh-ed25519 {}", KEYS[number]))
        });
        std::fs::write(file.path(), named).unwrap();
        file
    }

    #[test]
    fn keys_are_judged_as_ssh_judges_them() {
        enum Is {
            Known,
            Unknown,
            Changed(usize),
            Revoked(usize),
        }
        let rows = [
            ("archive K0\n", "archive", 22, 0, Is::Known),
            ("ARCHIVE K0\n", "Archive", 22, 0, Is::Known),
            ("archive K0\n", "archive", 22, 1, Is::Changed(1)),
            ("# a comment\n\narchive K0\n", "archive", 22, 1, Is::Changed(3)),
            ("archive\tK0\tmade up\n", "archive", 22, 0, Is::Known),
            ("archive K0\narchive K1\n", "archive", 22, 1, Is::Known),
            ("archive K0\n@revoked archive K0\n", "archive", 22, 0, Is::Revoked(2)),
            ("@revoked * K1\narchive K0\n", "archive", 22, 0, Is::Known),
            ("@revoked * K1\narchive K0\n", "archive", 22, 1, Is::Revoked(1)),
            ("@cert-authority * K0\n", "archive", 22, 0, Is::Unknown),
            ("@unheard-of * K0\n", "archive", 22, 0, Is::Unknown),
            ("archive ssh-ed25519 nonsense\narchive K0\n", "archive", 22, 0, Is::Known),
            ("archive\n", "archive", 22, 0, Is::Unknown),
            ("*.fenmere.example,!gate.* K0\n", "old.fenmere.example", 22, 0, Is::Known),
            ("*.fenmere.example,!gate.* K0\n", "gate.fenmere.example", 22, 0, Is::Unknown),
            ("archi?e K0\n", "archive", 22, 0, Is::Known),
            ("[archive]:2200 K0\n", "archive", 2200, 0, Is::Known),
            ("[archive]:2200 K0\n", "archive", 22, 0, Is::Unknown),
            ("archive K0\n", "archive", 2200, 0, Is::Known),
            ("archive K0\n", "archive", 2200, 1, Is::Unknown),
            ("other,archive,10.0.0.7 K0 # no comment\n", "10.0.0.7", 22, 0, Is::Known),
        ];
        for (text, host, port, shown, expected) in rows {
            let file = file(text);
            let path = file.path().to_owned();
            let found = KnownHosts::of(host, port, std::slice::from_ref(&path)).judge(&key(shown));
            let expected = match expected {
                Is::Known => Verdict::Known,
                Is::Unknown => Verdict::Unknown,
                Is::Changed(line) => Verdict::Changed(path, line),
                Is::Revoked(line) => Verdict::Revoked(path, line),
            };
            assert_eq!(found, expected, "{text:?} {host} {port} key {shown}");
        }
        let folder = tempfile::tempdir().unwrap();
        let unread = KnownHosts::of("archive", 22, &[folder.path().to_owned()]).judge(&key(0));
        assert!(matches!(unread, Verdict::Unread(..)), "{unread:?}");
        let none = KnownHosts::of("archive", 22, &[PathBuf::from("/nowhere/known_hosts")]);
        assert_eq!(none.judge(&key(0)), Verdict::Unknown);
    }

    /// Which lines are about a host, against the tool that OpenSSH has for it; hashed names too.
    #[test]
    fn the_same_lines_are_found_as_ssh_keygen_finds() {
        if Command::new("ssh-keygen").arg("-?").output().is_err() {
            assert!(std::env::var_os("REEDHOOK_REQUIRE_ALL").is_none(), "ssh-keygen is not installed");
            return;
        }
        let text = "# hosts\narchive K0\n[archive]:2200 K1\n*.example,!gate.example K2\n\narch* K1\n\
                    @revoked archive K2\n@cert-authority *.example K0\nArchive,10.0.0.? K0 a comment\n\tarchive K2\n!archive,* K0\n";
        let file = file(text);
        let found_by_tool = |name: &str| {
            let told = Command::new("ssh-keygen").args(["-F", name, "-f"]).arg(file.path()).output().unwrap();
            let told = String::from_utf8_lossy(&told.stdout).into_owned();
            let number = |line: &str| line.split_once(" line ")?.1.split_whitespace().next()?.parse().ok();
            told.lines().filter(|line| line.starts_with("# Host")).filter_map(number).collect::<Vec<usize>>()
        };
        let compare = || {
            for name in [
                "archive",
                "[archive]:2200",
                "old.example",
                "gate.example",
                "10.0.0.7",
                "10.0.0.77",
                "nobody",
            ] {
                let text = read_text(file.path()).unwrap();
                let ours: Vec<usize> =
                    lines_about(name, file.path(), &text).map(|line| line.number).collect();
                assert_eq!(ours, found_by_tool(name), "{name}");
            }
        };
        compare();
        // Patterns cannot be hashed: the tool leaves them as they are.
        assert!(
            Command::new("ssh-keygen").args(["-q", "-H", "-f"]).arg(file.path()).status().unwrap().success()
        );
        assert!(std::fs::read_to_string(file.path()).unwrap().contains("|1|"));
        compare();
    }

    #[test]
    fn fuzzed_files_of_known_hosts() {
        let seeds: [&[u8]; 3] = [
            b"archive,192.0.2.7 ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJdD7y3aLq454yWBdwLWbieU1ebz9/cu7/QEXn9OIeZJ",
            b"@revoked *.example,!gate.example ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJdD7y3aLq454yWBdwLWbieU1ebz9/cu7/QEXn9OIeZJ",
            b"|1|F1E1KeoE/eEWhi10WpGv4OdiO6Y=|3988QV0VE8wmZL7suNrYQLITLCg= ssh-rsa AAAA",
        ];
        reedhook_testing::fuzz("known hosts", &seeds, |line| {
            drop(read_line("archive", &String::from_utf8_lossy(line)));
        });
    }
}
