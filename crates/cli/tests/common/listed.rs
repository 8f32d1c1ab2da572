//! What inventories have, and what `find` sees.
#![allow(dead_code, reason = "each test program uses its part of this")]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::collections::BTreeSet;
use std::path::Path;
use std::process::Command;

use base64::Engine;
use base64::prelude::BASE64_STANDARD;

use super::{Station, number};

/// Path, kind and size of files.
pub type Listed = BTreeSet<(Vec<u8>, String, u64)>;

/// What `find` sees below a folder: path, kind, size of files.
pub fn seen_by_find(root: &Path) -> Listed {
    let output = Command::new("find")
        .arg(root.canonicalize().unwrap())
        .args(["-mindepth", "1", "-printf", "%y %s %P\\0"])
        .output()
        .unwrap();
    assert!(output.status.success(), "{output:?}");
    let lines = output.stdout.split(|byte| *byte == 0).filter(|line| !line.is_empty());
    let entries = lines.map(|line| {
        let mut parts = line.splitn(3, |byte| *byte == b' ');
        let (kind, size, path) = (parts.next().unwrap(), parts.next().unwrap(), parts.next().unwrap());
        let kind = match kind {
            b"f" => "file",
            b"d" => "folder",
            b"l" => "link",
            _ => "special",
        };
        let size = if kind == "file" { std::str::from_utf8(size).unwrap().parse().unwrap() } else { 0 };
        (path.to_vec(), kind.to_owned(), size)
    });
    let ours = |path: &[u8]| path.split(|byte| *byte == b'/').any(|part| part == b".reedhook");
    entries.filter(|(path, ..)| !ours(path)).collect()
}

pub fn exported(station: &Station, name: &str) -> Listed {
    let lines = station.run(&["inventory", "export", name, "--json"]).expect(0).json();
    lines
        .iter()
        .map(|line| {
            let path = match line["path_base64"].as_str() {
                Some(encoded) => BASE64_STANDARD.decode(encoded).unwrap(),
                None => line["path"].as_str().unwrap().as_bytes().to_vec(),
            };
            (path, line["kind"].as_str().unwrap().to_owned(), number(line, "size"))
        })
        .collect()
}

pub fn found(station: &Station, words: &[&str]) -> Vec<String> {
    let ran = station.run(&[&["inventory", "find", "--json"], words].concat());
    let lines = if ran.out.is_empty() { Vec::new() } else { ran.json() };
    lines
        .iter()
        .filter(|line| line["event"] == "entry")
        .map(|line| format!("{}:{}", line["inventory"].as_str().unwrap(), line["path"].as_str().unwrap()))
        .collect()
}
