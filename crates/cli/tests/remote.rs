//! Jobs over the network, through the built program: against real servers and stand-ins, with hostile names, cut connections, and
//! servers that lie.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;
#[path = "common/places.rs"]
mod places;
#[path = "../../stores/tests/servers/mod.rs"]
mod servers;

use std::collections::BTreeSet;
use std::fs;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

use base64::Engine as _;
use common::{Node, Ran, Seeded, Station, assert_no_leftovers, hostile_tree, number, tree, write};
use places::{Place, know_standin, of_server, standin};
use reedhook_standins::{Behaviour, Kind, Standin};
use reedhook_testing::signals::{self, Signal};

/// What a tree holds: content and whole seconds of files, targets of links, folders.
fn contents(root: &Path) -> Vec<(PathBuf, String)> {
    let node = |node: Node| match node {
        Node::File { content, modified, .. } => format!("{} at {}", blake3_of(&content), modified.0),
        Node::Link { target } => format!("to {}", target.display()),
        Node::Folder { .. } => "a folder".to_owned(),
        Node::Other => "something".to_owned(),
    };
    tree(root).into_iter().map(|(path, found)| (path, node(found))).collect()
}

fn blake3_of(content: &[u8]) -> String {
    let sum: u64 = content.iter().fold(17, |sum, byte| sum.wrapping_mul(31).wrapping_add(u64::from(*byte)));
    format!("{} bytes, {sum:x}", content.len())
}

/// The paths of a run's problems with one of these codes.
fn refused(ran: &Ran) -> BTreeSet<PathBuf> {
    use std::os::unix::ffi::OsStringExt;
    let problems = ran.json().into_iter().filter(|line| line["event"] == "problem");
    let path = |line: &serde_json::Value| {
        let code = line["code"].as_str().unwrap();
        // A name that only the server knows why it does not take.
        let glob = code == "refused-there" && line["path"].as_str().unwrap().contains('*');
        assert!(glob || ["name-refused", "name-too-long"].contains(&code), "{line}");
        let bytes = match line["path_base64"].as_str() {
            Some(text) => base64::engine::general_purpose::STANDARD.decode(text).unwrap(),
            None => line["path"].as_str().unwrap().as_bytes().to_vec(),
        };
        PathBuf::from(std::ffi::OsString::from_vec(bytes))
    };
    problems.map(|line| path(&line)).collect()
}

/// Up, again, down, both ways: with every name that is there, or a problem for each that cannot be.
fn every_kind_of_job(place: &Place) {
    let station = Station::new();
    station.know(place);
    hostile_tree(&station.left());
    let there = |below: &str| format!("@{}/{below}", place.name);
    station.run(&["job", "add", "up", "mirror", "left", &there("up"), "--yes"]).expect(0);
    let first = station.run(&["run", "up", "--json", "--yes"]);
    let missing = refused(&first);
    assert_eq!(first.code, i32::from(!missing.is_empty()), "{}: {}", place.name, first.err);
    let again = station.run(&["run", "up", "--json", "--yes"]).last();
    for key in ["added", "updated", "removed", "meta", "bytes"] {
        assert_eq!(number(&again, key), 0, "{}: a second run does nothing: {again}", place.name);
    }
    if let Some(served) = &place.served {
        assert_no_leftovers(&served.join("up"));
    }

    station
        .run(&["job", "add", "down", "mirror", &there("up"), "down", "--exclude", "/.reedhook", "--yes"])
        .expect(0);
    station.run(&["run", "down", "--json", "--yes"]).expect(0);
    let is_missing = |path: &Path| path.ancestors().any(|above| missing.contains(above));
    // What a server holds nothing of is said once, and no problem.
    let links = station.run(&["store", "check", place.name, "--json"]).expect(0).json()[0]["links"] == true;
    let is_lost = |what: &str| !links && what.starts_with("to ");
    let expected: Vec<_> = contents(&station.left())
        .into_iter()
        .filter(|(path, what)| !is_missing(path) && !is_lost(what))
        .collect();
    let found = contents(&station.path("down"));
    for (one, other) in expected.iter().zip(&found) {
        assert_eq!(one, other, "{}", place.name);
    }
    assert_eq!(expected.len(), found.len(), "{}", place.name);

    // An update and a removal; what is replaced and removed is kept at the server.
    write(&station.left().join("large"), b"smaller now", 1_300_000_000);
    fs::remove_file(station.left().join("script")).unwrap();
    let changed = station.run(&["run", "up", "--json", "--yes"]).last();
    assert_eq!(
        (number(&changed, "updated"), number(&changed, "removed")),
        (1, 1),
        "{}: {changed}",
        place.name
    );
    let kept = station.run(&["kept", "list", "up", "--json"]).expect(0);
    assert!(!kept.json().is_empty(), "{}", place.name);
    station.run(&["restore", "up", "script", "--yes"]).expect(0);
    assert_eq!(fs::read(station.left().join("script")).unwrap(), b"script");

    both_ways(&station, place);
}

fn both_ways(station: &Station, place: &Place) {
    let (mine, theirs) = (station.path("mine"), station.path("theirs"));
    write(&mine.join("counts/a.csv"), b"heron,3", 1_000);
    write(&mine.join("counts/b.csv"), b"teal,5", 1_001);
    let there = format!("@{}/two", place.name);
    station.run(&["job", "add", "two", "two-way", "mine", &there, "--yes"]).expect(0);
    station.run(&["run", "two", "--yes"]).expect(0);
    // Somebody else works there, by way of a mirror of their own.
    station.run(&["once", "copy", &there, "theirs", "--exclude", "/.reedhook", "--yes"]).expect(0);
    assert_eq!(contents(&mine), contents(&theirs), "{}", place.name);
    write(&theirs.join("counts/a.csv"), b"heron,30", 2_000);
    write(&theirs.join("notes/otter.txt"), b"06:40", 2_001);
    station.run(&["once", "copy", "theirs", &there, "--yes"]).expect(0);
    write(&mine.join("counts/b.csv"), b"teal,50", 2_002);
    let run = station.run(&["run", "two", "--json", "--yes"]).expect(0).last();
    assert_eq!(
        (number(&run, "updated"), number(&run, "added"), number(&run, "conflicts")),
        (2, 1, 0),
        "{run}"
    );
    assert_eq!(fs::read(mine.join("counts/a.csv")).unwrap(), b"heron,30");
    assert_eq!(fs::read(mine.join("notes/otter.txt")).unwrap(), b"06:40");
    let quiet = station.run(&["run", "two", "--json", "--yes"]).expect(0).last();
    assert_eq!(number(&quiet, "same"), 3, "{}: {quiet}", place.name);
    // Both change the same sheet: nothing is overwritten.
    write(&theirs.join("counts/a.csv"), b"heron,31!", 3_000);
    station.run(&["once", "copy", "theirs", &there, "--yes"]).expect(0);
    write(&mine.join("counts/a.csv"), b"heron,29!!", 3_001);
    let held = station.run(&["run", "two", "--json", "--yes"]).expect(4).last();
    assert_eq!(number(&held, "conflicts"), 1, "{}: {held}", place.name);
    station.run(&["settle", "two", "counts/a.csv", "--keep", "both", "--yes"]).expect(0);
    let names: Vec<_> =
        fs::read_dir(mine.join("counts")).unwrap().map(|it| it.unwrap().file_name()).collect();
    assert_eq!(names.len(), 3, "{}: {names:?}", place.name);
}

#[test]
fn every_kind_of_job_over_sftp() {
    if let Some(place) = of_server("sshd", "archive") {
        every_kind_of_job(&place);
    }
}

#[test]
fn every_kind_of_job_over_webdav() {
    if let Some(place) = of_server("apache-tls", "archive") {
        every_kind_of_job(&place);
    }
}

#[test]
fn every_kind_of_job_over_ftp() {
    if let Some(place) = of_server("proftpd-tls", "archive") {
        every_kind_of_job(&place);
    }
}

#[test]
fn every_kind_of_job_over_an_object_store() {
    if let Some(place) = of_server("objects", "archive") {
        every_kind_of_job(&place);
    }
}

#[test]
fn from_one_server_to_another() {
    let (Some(from), Some(to)) = (of_server("sshd", "one"), of_server("apache-tls", "other")) else { return };
    let station = Station::new();
    station.know(&from);
    station.know(&to);
    let served = from.served.clone().unwrap();
    hostile_tree(&served);
    station
        .run(&["job", "add", "over", "mirror", "@one", "@other/copy", "--exclude", "link", "--yes"])
        .expect(0);
    let first = station.run(&["run", "over", "--json", "--yes"]);
    let missing = refused(&first);
    assert!(missing.iter().all(|path| served.join(path).is_symlink()), "{missing:?}");
    let again = station.run(&["run", "over", "--json", "--yes"]).last();
    assert_eq!(
        (number(&again, "added"), number(&again, "updated"), number(&again, "meta")),
        (0, 0, 0),
        "{again}"
    );
    let names = |root: &Path| -> Vec<PathBuf> {
        let files = contents(root).into_iter().filter(|(_, what)| what.contains("bytes"));
        files.map(|(path, _)| path).collect()
    };
    assert_eq!(names(&served), names(&to.served.clone().unwrap().join("copy")));
}

/// A connection that is cut at a hundred random points: nothing torn at a final path, and in the end all is there.
#[test]
fn connections_cut_at_random_points_tear_nothing() {
    let stopped = [Kind::Sftp, Kind::WebDav].map(cut_at_random);
    assert!(stopped.iter().sum::<u32>() > 0, "some runs were stopped");
}

/// The same, beside the other two.
#[test]
fn connections_cut_at_random_points_tear_nothing_elsewhere() {
    let stopped = [Kind::Object, Kind::Ftp].map(cut_at_random);
    assert!(stopped.iter().sum::<u32>() > 0, "some runs were stopped");
}

/// A one-way and a two-way job whose server is cut off, or goes away, in each run; how many runs that stopped.
fn cut_at_random(kind: Kind) -> u32 {
    let mut random = Seeded(20_310_504);
    let station = Station::new();
    let behaviour = Behaviour { round_trip: Duration::from_millis(2), ..Behaviour::default() };
    let running = Arc::new(standin(&station, kind, behaviour));
    know_standin(&station, &running);
    station.run(&["job", "add", "up", "mirror", "left", "@archive/up", "--yes"]).expect(0);
    fs::create_dir_all(station.path("mine")).unwrap();
    station.run(&["job", "add", "both", "two-way", "mine", "@archive/both", "--yes"]).expect(0);
    let mut stopped = 0;
    for round in 0..25_u64 {
        for file in (0..12).filter(|_| round == 0 || random.below(3) == 0) {
            let content = version(file, round);
            write(&station.left().join(format!("folder-{}/file-{file}", file % 3)), &content, 1_000 + round);
            write(&station.path("mine").join(format!("file-{file}")), &content, 1_000 + round);
        }
        let (delay, away) = (random.below(350), random.below(3) == 0);
        let saboteur = running.clone();
        let cutter = std::thread::spawn(move || {
            std::thread::sleep(Duration::from_millis(delay));
            if away { saboteur.set_away(true) } else { saboteur.cut() }
        });
        let mut command = station.command(&["run", ["up", "both"][round as usize % 2], "--json", "--yes"]);
        let ended = command.env("REEDHOOK_ATTEMPTS", if away { "2" } else { "8" }).output().unwrap();
        cutter.join().unwrap();
        running.set_away(false);
        let code = ended.status.code();
        let err = String::from_utf8_lossy(&ended.stderr);
        let known = [Some(0), Some(1), Some(3), Some(4), Some(5)];
        assert!(known.contains(&code), "{kind:?} round {round}: {code:?} {err}");
        // On a busy machine the cut comes before the first byte.
        stopped += u32::from(matches!(code, Some(3 | 5)));
        for root in ["served/archive/up", "served/archive/both"] {
            all_whole(&station.path(root), round, kind);
        }
    }
    both_jobs_come_to_rest(&station, kind);
    stopped
}

fn version(number: u64, round: u64) -> Vec<u8> {
    format!("{number}:{round}:").into_bytes().repeat(40 + 3_000 * number as usize)
}

/// Once nobody cuts any more: the sides agree, nothing is left to do, and nothing unfinished is left.
fn both_jobs_come_to_rest(station: &Station, kind: Kind) {
    // What a lost run had carried over without being able to remember it, and was changed since, is a conflict: held, never
    // overwritten.
    station.run(&["run", "both", "--json", "--yes"]);
    station.run(&["settle", "both", "--all", "--keep", "left", "--yes"]);
    for job in ["up", "both"] {
        station.run(&["run", job, "--json", "--yes"]).expect(0);
        let last = station.run(&["run", job, "--json", "--yes"]).expect(0).last();
        assert_eq!((number(&last, "added"), number(&last, "updated")), (0, 0), "{kind:?} {job}: {last}");
    }
    let whole = |root: &str| -> Vec<(PathBuf, Vec<u8>)> {
        let file = |(path, node)| match node {
            Node::File { content, .. } => Some((path, content)),
            _ => None,
        };
        let ours = |(path, _): &(PathBuf, Vec<u8>)| !path.to_string_lossy().contains(".reedhook");
        tree(&station.path(root)).into_iter().filter_map(file).filter(ours).collect()
    };
    assert_eq!(whole("left"), whole("served/archive/up"), "{kind:?}");
    assert_eq!(whole("mine"), whole("served/archive/both"), "{kind:?}");
    // In each job's own root; what a cut left in the making of its mark is under `.reedhook`, and out of every comparison.
    assert_no_leftovers(&station.path("served/archive/up"));
    assert_no_leftovers(&station.path("served/archive/both"));
}

/// Every file at a final path is one of the versions that were ever written.
fn all_whole(root: &Path, upto: u64, kind: Kind) {
    if !root.exists() {
        return;
    }
    for (path, node) in tree(root) {
        let Node::File { content, .. } = node else { continue };
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        let Some(number) = name.strip_prefix("file-").and_then(|number| number.parse().ok()) else {
            continue;
        };
        let text = String::from_utf8_lossy(&content[..content.len().min(20)]).into_owned();
        let round = text.split(':').nth(1).and_then(|round| round.parse().ok());
        let whole = round.is_some_and(|round| round <= upto && version(number, round) == content);
        assert!(whole, "{kind:?}: {} is torn: {} bytes", path.display(), content.len());
    }
}

#[test]
fn a_large_file_is_gone_on_with_in_both_directions() {
    [Kind::Sftp, Kind::Object].into_iter().for_each(go_on_with_a_large_file);
}

/// The same, beside the other two.
#[test]
fn a_large_file_is_gone_on_with_in_both_directions_elsewhere() {
    [Kind::Ftp, Kind::WebDav].into_iter().for_each(go_on_with_a_large_file);
}

/// 67 MiB, no two of which are the same.
fn much() -> Vec<u8> {
    let mebibyte: Vec<u8> = (0..1_u32 << 20).map(|at| (at.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    let mut content = Vec::with_capacity(67 << 20);
    for number in 0..67_u8 {
        content.extend_from_slice(&mebibyte);
        let begun = content.len() - mebibyte.len();
        content[begun] = number;
    }
    content
}

fn go_on_with_a_large_file(kind: Kind) {
    let station = Station::new();
    let running = standin(&station, kind, Behaviour::default());
    know_standin(&station, &running);
    let content = much();
    write(&station.left().join("large.bin"), &content, 1_000);
    station
        .run(&["job", "add", "up", "mirror", "left", "@archive/up", "--limit", "40MB/s", "--yes"])
        .expect(0);
    interrupt(&station, &running, "up", kind);
    let before = running.passed();
    station.run(&["run", "up", "--yes", "--quiet"]).expect(0);
    let sent = running.passed() - before;
    assert_eq!(fs::read(station.path("served/archive/up/large.bin")).unwrap(), content, "{kind:?}");
    if kind != Kind::Ftp {
        // What FTP carries beside its control connection does not pass the relay.
        assert!(sent < 40_000_000, "{kind:?}: only the rest was sent, not {sent}");
    }
    assert_no_leftovers(&station.path("served/archive"));

    station
        .run(&[
            "job",
            "add",
            "down",
            "mirror",
            "@archive/up",
            "down",
            "--exclude",
            "/.reedhook",
            "--limit",
            "40MB/s",
            "--yes",
        ])
        .expect(0);
    interrupt(&station, &running, "down", kind);
    let before = running.passed();
    station.run(&["run", "down", "--yes", "--quiet"]).expect(0);
    let sent = running.passed() - before;
    assert_eq!(fs::read(station.path("down/large.bin")).unwrap(), content, "{kind:?}");
    if kind != Kind::Ftp {
        assert!(sent < 40_000_000, "{kind:?}: only the rest was fetched, not {sent}");
    }
    assert_no_leftovers(&station.path("down"));
}

/// Stops a run when more than half of the file has been moved. What passed the relay may still wait in a socket on its way down, and
/// what FTP moves does not pass it: there the unfinished file tells.
fn interrupt(station: &Station, running: &Standin, job: &str, kind: Kind) {
    let before = running.passed();
    let moved = || match (job, kind) {
        ("up", Kind::Ftp) => unfinished(&station.path("served/archive/up")),
        ("up", _) => running.passed() - before,
        _ => unfinished(&station.path("down")),
    };
    let mut child = station.command(&["run", job, "--yes", "--quiet"]).spawn().unwrap();
    while moved() < 45_000_000 && child.try_wait().unwrap().is_none() {
        std::thread::sleep(Duration::from_millis(2));
    }
    signals::send(child.id(), Signal::INT);
    assert_eq!(child.wait().unwrap().code(), Some(130), "{kind:?}: {job} was to be stopped on its way");
}

/// The size of the largest unfinished file of a folder.
fn unfinished(folder: &Path) -> u64 {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let parts = entries.filter(|entry| entry.file_name().as_encoded_bytes().starts_with(b".reedhook-part-"));
    parts.filter_map(|entry| Some(entry.metadata().ok()?.len())).max().unwrap_or(0)
}

#[test]
fn a_server_that_asks_for_patience_gets_it_and_a_full_one_is_told_of() {
    for kind in [Kind::WebDav, Kind::Object] {
        let station = Station::new();
        let running = standin(&station, kind, Behaviour { busy_every: Some(7), ..Behaviour::default() });
        know_standin(&station, &running);
        for file in 0..5 {
            station.write(&format!("file-{file}"), "heron", 1_000 + file);
        }
        station.run(&["job", "add", "up", "mirror", "left", "@archive/up", "--yes"]).expect(0);
        let run = station.run(&["run", "up", "--json", "--yes"]).expect(0).last();
        assert_eq!(number(&run, "added"), 5, "{run}");
    }
    for kind in [Kind::WebDav, Kind::Sftp, Kind::Object] {
        let station = Station::new();
        let running = standin(&station, kind, Behaviour { quota: Some(20_000), ..Behaviour::default() });
        know_standin(&station, &running);
        write(&station.left().join("a small one"), &[1; 2_000], 1_000);
        station.run(&["job", "add", "up", "mirror", "left", "@archive/up", "--yes"]).expect(0);
        station.run(&["run", "up", "--yes"]).expect(0);
        // In a run of its own: what is there of it while it is sent takes the room of others.
        write(&station.left().join("too large"), &[1; 50_000], 1_000);
        let run = station.run(&["run", "up", "--json", "--yes"]).expect(1);
        assert_eq!(number(&run.last(), "same"), 1, "{kind:?}: {}", run.out);
        let problem = run.json().into_iter().find(|line| line["event"] == "problem").unwrap();
        assert_eq!(problem["path"], "too large", "{problem}");
        assert!(!station.path("served/archive/up/too large").exists());
    }
}

/// Answers every request with what `answer` makes of its first line and headers.
fn liar(answer: impl Fn(&str) -> Vec<u8> + Send + Sync + 'static) -> (u16, Arc<AtomicU32>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let (asked, answer) = (Arc::new(AtomicU32::new(0)), Arc::new(answer));
    let counted = asked.clone();
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let (counted, answer) = (counted.clone(), answer.clone());
            std::thread::spawn(move || serve_one(stream, &counted, answer.as_ref()));
        }
    });
    (port, asked)
}

fn serve_one(mut stream: TcpStream, counted: &AtomicU32, answer: &(dyn Fn(&str) -> Vec<u8> + Send + Sync)) {
    let mut head = Vec::new();
    let mut byte = [0];
    while !head.ends_with(b"\r\n\r\n") && stream.read_exact(&mut byte).is_ok() {
        head.push(byte[0]);
    }
    let head = String::from_utf8_lossy(&head).into_owned();
    let length = head
        .lines()
        .find_map(|line| line.to_ascii_lowercase().strip_prefix("content-length: ")?.parse().ok());
    let mut body = vec![0; length.unwrap_or(0)];
    let _ = stream.read_exact(&mut body);
    counted.fetch_add(1, Ordering::Relaxed);
    let _ = stream.write_all(&answer(&head));
}

fn multistatus(entries: &[(&str, &str)]) -> Vec<u8> {
    let one = |(href, prop): &(&str, &str)| {
        format!(
            "<D:response><D:href>{href}</D:href><D:propstat><D:prop>{prop}</D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>"
        )
    };
    let body = format!(
        "<?xml version=\"1.0\"?><D:multistatus xmlns:D=\"DAV:\">{}</D:multistatus>",
        entries.iter().map(one).collect::<String>()
    );
    format!("HTTP/1.1 207 Multi-Status\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}", body.len())
        .into_bytes()
}

const FOLDER: &str = "<D:resourcetype><D:collection/></D:resourcetype>";
const FILE: &str = "<D:resourcetype/><D:getcontentlength>5</D:getcontentlength><D:getetag>\"1\"</D:getetag>\
                    <D:getlastmodified>Sun, 04 May 2031 06:00:00 GMT</D:getlastmodified>";

#[test]
fn names_that_no_honest_server_has_lead_nowhere() {
    for bad in [
        "/root/../../evil",
        "/root/a%2Fb",
        "/root/nul%00",
        "/elsewhere/x",
        "http://other.example/root/x",
        "/root/..",
        "/root/.",
    ] {
        let station = Station::new();
        let (port, _) = liar(move |head| match head.split_whitespace().next() {
            Some("GET") => b"HTTP/1.1 200 OK\r\nContent-Length: 5\r\nConnection: close\r\n\r\nheron".to_vec(),
            _ if head.contains("depth: 0") && head.contains("/good") => multistatus(&[("/root/good", FILE)]),
            _ if head.contains("depth: 0") => multistatus(&[("/root/", FOLDER)]),
            _ => multistatus(&[("/root/", FOLDER), ("/root/good", FILE), (bad, FILE)]),
        });
        write(&station.path("down/mine"), b"stays", 1_000);
        let from = format!("dav://127.0.0.1:{port}/root");
        let run = station.run(&["once", "mirror", &from, "down", "--json", "--yes", "--allow", "removals"]);
        assert_eq!(run.code, 1, "{bad}: {} {}", run.out, run.err);
        let problem = run.json().into_iter().find(|line| line["event"] == "problem").unwrap();
        assert_eq!(problem["code"], "bad-answer", "{bad}: {problem}");
        let found: Vec<PathBuf> = tree(&station.path("down")).into_keys().collect();
        assert_eq!(
            found,
            [PathBuf::from("good"), PathBuf::from("mine")],
            "{bad}: nothing is removed on such a word"
        );
        assert!(!station.path("evil").exists() && !station.path("x").exists());
    }
}

#[test]
fn sizes_that_are_not_so_and_listings_without_an_end_are_refused() {
    let station = Station::new();
    let (port, _) = liar(|head| match head.split_whitespace().next() {
        Some("GET") => b"HTTP/1.1 200 OK\r\nContent-Length: 3\r\nConnection: close\r\n\r\nher".to_vec(),
        _ if head.contains("depth: 0") && head.contains("/good") => multistatus(&[("/root/good", FILE)]),
        _ if head.contains("depth: 0") => multistatus(&[("/root/", FOLDER)]),
        _ => multistatus(&[("/root/", FOLDER), ("/root/good", FILE)]),
    });
    let from = format!("dav://127.0.0.1:{port}/root");
    let run = station.run(&["once", "mirror", &from, "right", "--json", "--yes"]).expect(1);
    assert!(run.out.contains("changed-meanwhile"), "{}", run.out);
    assert!(tree(&station.right()).is_empty(), "what is too short never lands");

    let (port, _) = liar(|head| match head.contains("depth: 0") {
        true => multistatus(&[("/root/", FOLDER)]),
        // More than anybody lists: the length alone is enough.
        false => {
            [b"HTTP/1.1 207 Multi-Status\r\nConnection: close\r\n\r\n".as_slice(), &vec![b' '; 300 << 20]]
                .concat()
        }
    });
    let from = format!("dav://127.0.0.1:{port}/root");
    let run = station.run(&["once", "mirror", &from, "right", "--json", "--yes"]).expect(3);
    assert!(run.out.contains("cannot be right"), "{} {}", run.out, run.err);
}

#[test]
fn a_token_is_sent_where_there_is_no_account() {
    let (port, _) = liar(|head| {
        match head.to_ascii_lowercase().contains("authorization: bearer marsh-token") {
        true => multistatus(&[("/root/", FOLDER)]),
        false => b"HTTP/1.1 401 Unauthorized\r\nWWW-Authenticate: Bearer\r\nContent-Length: 0\r\nConnection: close\r\n\r\n".to_vec(),
    }
    });
    let station = Station::new();
    let location = format!("dav://127.0.0.1:{port}/root");
    station.run(&["store", "add", "archive", &location, "--secret", "command echo marsh-token"]).expect(0);
    station.run(&["store", "check", "archive"]).expect(0);
    let wrong = station.run(&["store", "check", &location]).expect(3);
    assert!(wrong.err.contains("does not let"), "{}", wrong.err);
}

#[test]
fn credentials_go_nowhere_else_and_appear_nowhere() {
    let (elsewhere, visited) =
        liar(|_| b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\nConnection: close\r\n\r\n".to_vec());
    let (port, _) = liar(move |head| {
        if !head.to_ascii_lowercase().contains("authorization:") {
            return b"HTTP/1.1 401 Unauthorized\r\nWWW-Authenticate: Basic realm=\"x\"\r\nContent-Length: 0\r\nConnection: close\r\n\r\n".to_vec();
        }
        format!("HTTP/1.1 302 Found\r\nLocation: http://127.0.0.1:{elsewhere}/root/\r\nContent-Length: 0\r\nConnection: close\r\n\r\n").into_bytes()
    });
    let station = Station::new();
    let location = format!("dav://127.0.0.1:{port}/root");
    let options = vec!["--user".to_owned(), "ranger".to_owned()];
    let place = Place {
        name: "archive",
        location,
        options,
        secret: Some("marsh tit 4711"),
        served: None,
        fingerprint: None,
        _server: Box::new(()),
    };
    station.know(&place);
    let check = station.run(&["store", "check", "archive"]).expect(3);
    assert!(check.err.contains("not followed"), "{}", check.err);
    assert_eq!(visited.load(Ordering::Relaxed), 0, "nobody was sent there");

    let running = standin(&station, Kind::WebDav, Behaviour::default());
    let location = running.location("archive");
    let good = ["store", "add", "good", &location, "--user", servers::USER, "--secret", "env GOOD_SECRET"];
    station.run(&good).expect(0);
    station.write("a.csv", "heron", 1_000);
    station.run(&["job", "add", "up", "mirror", "left", "@good", "--yes"]).expect(0);
    let mut run = station.command(&["run", "up", "--yes", "-v"]);
    let ran = run.env("GOOD_SECRET", servers::PASSWORD).output().unwrap();
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    let wrong =
        station.command(&["run", "up", "--yes"]).env("GOOD_SECRET", "wrong reed 99").output().unwrap();
    assert_eq!(wrong.status.code(), Some(3));
    let said = [ran.stdout, ran.stderr, wrong.stdout, wrong.stderr].concat();
    let mut everything = String::from_utf8_lossy(&said).into_owned();
    for entry in walk(&station.path("home")) {
        if !entry.ends_with("secrets.toml") {
            everything.push_str(&String::from_utf8_lossy(&fs::read(entry).unwrap()));
        }
    }
    assert_hides(&everything, &[servers::PASSWORD, "marsh tit 4711", "wrong reed 99"]);
}

/// Nowhere in a text is one of the secrets, nor as it travels.
#[track_caller]
fn assert_hides(text: &str, secrets: &[&str]) {
    for secret in secrets {
        let encoded = base64::engine::general_purpose::STANDARD.encode(format!("{}:{secret}", servers::USER));
        assert!(!text.contains(secret) && !text.contains(&encoded), "{secret} is in a file or in the output");
    }
}

fn walk(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).unwrap().flatten() {
        if entry.path().is_dir() { found.extend(walk(&entry.path())) } else { found.push(entry.path()) }
    }
    found
}

/// What is read from a server that is far away takes long enough to be met on the way: many files, and one large one.
#[test]
fn a_verification_that_is_broken_off_says_how_far_it_came() {
    let station = Station::new();
    let far = Behaviour { round_trip: Duration::from_millis(40), ..Behaviour::default() };
    let running = standin(&station, Kind::Sftp, far);
    know_standin(&station, &running);
    for number in 0..400 {
        station.write(&format!("counts/{number}.csv"), "heron", 1000);
    }
    write(&station.left().join("stills/large.jpg"), &vec![7; 48 << 20], 1000);
    for (name, only, all) in [("many", "counts/", 400), ("large", "stills/", 1)] {
        station.run(&["job", "add", name, "copy", "left", "@archive/up", "--only", only]).expect(0);
        station.run(&["run", name]).expect(0);
        let mut command = station.command(&["verify", name, "--json"]);
        let child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(700));
        let told = std::time::Instant::now();
        signals::send(child.id(), Signal::INT);
        let ended = child.wait_with_output().unwrap();
        let ran = Ran {
            code: ended.status.code().unwrap(),
            out: String::from_utf8_lossy(&ended.stdout).into_owned(),
            err: String::from_utf8_lossy(&ended.stderr).into_owned(),
        };
        let verified = ran.expect(130).last();
        assert_eq!(verified["outcome"], "interrupted", "{name}: {verified}");
        assert!(number(&verified, "same") < all, "{name}: {verified}");
        assert!(told.elapsed() < Duration::from_secs(20), "{name}: it does not read on to the end");
    }
    // A run that is to verify everything, broken off while it does, is not done either.
    station.run(&["job", "edit", "many", "--verify", "all"]).expect(0);
    let child = station.command(&["run", "many", "--json"]).stdout(Stdio::piped()).spawn().unwrap();
    std::thread::sleep(Duration::from_millis(1200));
    signals::send(child.id(), Signal::INT);
    let ended = child.wait_with_output().unwrap();
    assert_eq!(ended.status.code(), Some(130), "{}", String::from_utf8_lossy(&ended.stdout));
    assert_eq!(station.run(&["history", "many", "last", "--json"]).json()[0]["outcome"], "interrupted");
}
