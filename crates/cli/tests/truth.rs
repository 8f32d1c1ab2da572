//! What servers hold and say, taken for what it is: against real servers that showed where it was not.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;
#[path = "common/places.rs"]
mod places;
#[path = "../../stores/tests/servers/mod.rs"]
mod servers;

use std::fs;
use std::os::unix::fs::MetadataExt;

use common::{Station, number, tree, write};
use places::{in_folder, know_standin, of_server, standin};
use reedhook_standins::{Behaviour, Kind};

/// Several workers make the same folder among the kept copies; the server tells those that come late that they may not.
#[test]
fn folders_that_several_make_at_once_are_no_refusal() {
    let Some(place) = of_server("apache-tls", "archive") else { return };
    let station = Station::new();
    station.know(&place);
    station.run(&["job", "add", "counts", "mirror", "left", "@archive/counts", "--yes"]).expect(0);
    for round in 0..12_u64 {
        for number in 0..24 {
            station.write(
                &format!("site/pond/{number}.csv"),
                &format!("{round} {number}"),
                1_900_000_000 + round * 10,
            );
        }
        station.run_job(&["--yes", "--quiet"]).expect(0);
    }
}

#[test]
fn names_that_begin_with_a_blank_are_seen_over_ftp() {
    let Some(place) = of_server("proftpd-plain", "archive") else { return };
    let station = Station::new();
    station.know(&place);
    let there = place.served.clone().unwrap().join("counts");
    for name in [" heron.csv", "teal.csv ", " both "] {
        station.write(name, "ours, longer", 1_900_000_000);
    }
    station.run(&["job", "add", "counts", "mirror", "left", "@archive/counts", "--yes"]).expect(0);
    station.run_job(&["--yes"]).expect(0);
    let again = station.run_job(&["--yes"]).expect(0).last();
    assert_eq!(number(&again, "added") + number(&again, "updated"), 0, "{again}");
    // Another person's file, from before: it is kept when ours takes its place.
    fs::write(there.join(" otter.csv"), "theirs").unwrap();
    station.write(" otter.csv", "ours, longer", 1_900_000_000);
    let ran = station.run_job(&["--yes"]).expect(0).last();
    assert_eq!((number(&ran, "added"), number(&ran, "updated")), (0, 1), "{ran}");
    let kept = tree(&there.join(".reedhook/kept"));
    assert!(kept.keys().any(|path| path.ends_with(" otter.csv")), "{kept:?}");
    assert_eq!(fs::read(there.join(" otter.csv")).unwrap(), b"ours, longer");
}

/// What was noted of files holds for them when their folder gets another name.
#[test]
fn notes_travel_with_folders() {
    for kind in ["apache-tls", "proftpd-plain"] {
        let Some(place) = of_server(kind, "archive") else { return };
        let station = Station::new();
        station.know(&place);
        for number in 0..20 {
            station.write(
                &format!("season/nest/{number}.csv"),
                &format!("heron,{number}"),
                1_900_000_000 + number,
            );
        }
        station.run(&["job", "add", "counts", "mirror", "left", "@archive/counts", "--yes"]).expect(0);
        station.run_job(&["--yes"]).expect(0);
        fs::rename(station.left().join("season"), station.left().join("season 2031")).unwrap();
        let ran = station.run_job(&["--yes"]).expect(0).last();
        assert_eq!((number(&ran, "moved"), number(&ran, "added")), (20, 0), "{kind}: {ran}");
        let again = station.run_job(&["--yes"]).expect(0).last();
        assert_eq!(number(&again, "meta"), 0, "{kind}: {again}");
    }
}

/// A large file is told its time as a small one is, where the server takes it.
#[test]
fn large_files_are_told_their_time_over_webdav() {
    let station = Station::new();
    let takes = reedhook_standins::Behaviour { takes_times: true, ..Default::default() };
    let standin = places::standin(&station, reedhook_standins::Kind::WebDav, takes);
    places::know_standin(&station, &standin);
    station.write("small.csv", "heron,3", 1_900_000_000);
    write(&station.left().join("large.bin"), &vec![7; 700_000], 1_900_000_000);
    station.run(&["job", "add", "counts", "mirror", "left", "@archive/counts", "--yes"]).expect(0);
    station.run_job(&["--yes"]).expect(0);
    let time = |name: &str| fs::metadata(station.path("served/archive/counts").join(name)).unwrap().mtime();
    assert_eq!((time("small.csv"), time("large.bin")), (1_900_000_000, 1_900_000_000));
}

/// A host key that was withdrawn, or is not the one that a person was told, lets nobody in.
#[test]
fn a_withdrawn_host_key_and_a_wrong_fingerprint_are_refused() {
    let Some(server) = servers::Server::start("sshd") else { return };
    let station = Station::new();
    let own = station.path(".ssh");
    fs::create_dir_all(&own).unwrap();
    let key = fs::read_to_string(server.file("host_key.pub")).unwrap();
    let name = format!("[127.0.0.1]:{}", server.port);
    let location = format!("sftp://127.0.0.1:{}{}", server.port, server.root().display());
    let private = server.file("key").to_str().unwrap().to_owned();
    station.run(&["store", "add", "archive", &location, "--key", &private, "--user", "root"]).expect(0);
    let check = |more: &[&str]| station.run(&[&["store", "check", "archive", "--json"], more].concat());
    let code = |ran: &common::Ran| ran.last()["code"].as_str().map(str::to_owned);
    let slip = check(&["--accept", "SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"]);
    assert_eq!(code(&slip).as_deref(), Some("host-other"), "{}", slip.out);
    fs::write(own.join("known_hosts"), format!("a line that nobody can read\n{name} {key}")).unwrap();
    assert_eq!(check(&[]).code, 0, "an unreadable line is passed over");
    fs::write(own.join("known_hosts"), format!("{name} {key}@revoked {name} {key}")).unwrap();
    let revoked = check(&[]);
    assert_eq!(code(&revoked).as_deref(), Some("host-revoked"), "{}", revoked.out);
}

/// What opens a key is the key's: a server that refuses the key is not shown it as a password.
#[test]
fn the_passphrase_of_a_key_is_no_password() {
    let station = Station::new();
    let standin = places::standin(&station, reedhook_standins::Kind::Sftp, Default::default());
    let key = station.path("key");
    let made = std::process::Command::new("ssh-keygen")
        .args(["-q", "-t", "ed25519", "-N", servers::PASSWORD, "-f", key.to_str().unwrap()])
        .status();
    if !made.is_ok_and(|status| status.success()) {
        assert!(std::env::var_os("REEDHOOK_REQUIRE_ALL").is_none(), "ssh-keygen is not installed");
        return;
    }
    let location = standin.location("archive");
    let fingerprint = standin.fingerprint.clone().unwrap();
    let check = |name: &str, more: &[&str]| {
        let mut command =
            station.command(&[&["store", "check", name, "--accept", &fingerprint], more].concat());
        common::Ran::of(&command.env("REEDHOOK_SECRET", servers::PASSWORD).output().unwrap())
    };
    station.run(&["store", "add", "open", &location, "--user", servers::USER]).expect(0);
    check("open", &[]).expect(0);
    let key = key.to_str().unwrap();
    station.run(&["store", "add", "keyed", &location, "--user", servers::USER, "--key", key]).expect(0);
    let refused = check("keyed", &[]);
    assert!(refused.err.contains("tried: key key)"), "{}", refused.err);
}

/// The same content with another time, written by another machine, is seen: the tag of an object is that of its content alone.
#[test]
fn a_new_time_alone_is_seen_at_an_object_store() {
    let Some(server) = servers::Server::start("objects") else { return };
    let address = format!("http://localhost:{}/archive", server.port);
    let put = |below: &str, more: &[&str]| {
        let address = format!("{address}{below}");
        let words = [&["-sS", "-o", "/dev/null", "-X", "PUT"], more, &[address.as_str()]].concat();
        assert!(std::process::Command::new("curl").args(words).status().unwrap().success());
    };
    put("", &[]);
    let station = Station::new();
    let location = format!("s3://localhost:{}/archive", server.port);
    station.run(&["store", "add", "archive", &location, "--user", servers::USER]).expect(0);
    let (user, account) = ("--user", format!("{}:{}", servers::USER, servers::PASSWORD));
    let signed = ["--aws-sigv4", "aws:amz:us-east-1:s3", user, &account, "-f"];
    let put_of = |seconds: u64| {
        let time = format!("x-amz-meta-reedhook-modified: {seconds}.000000000");
        put("/counts/heron.csv", &[&signed[..], &["-H", &time, "--data-binary", "heron,3"]].concat());
    };
    put_of(1_000_000_000);
    station.run(&["job", "add", "counts", "mirror", "@archive/counts", "left", "--yes"]).expect(0);
    let run = || {
        let mut command = station.command(&["run", "counts", "--yes", "--json"]);
        common::Ran::of(&command.env("REEDHOOK_SECRET", servers::PASSWORD).output().unwrap()).expect(0).last()
    };
    run();
    run();
    assert_eq!(fs::metadata(station.left().join("heron.csv")).unwrap().mtime(), 1_000_000_000);
    // The store tells moments to the second.
    std::thread::sleep(std::time::Duration::from_millis(1100));
    put_of(1_600_000_000);
    run();
    assert_eq!(fs::metadata(station.left().join("heron.csv")).unwrap().mtime(), 1_600_000_000);
    let quiet = run();
    assert_eq!((number(&quiet, "meta"), number(&quiet, "updated")), (0, 0), "{quiet}");
}

/// What was noted of a version that somebody has replaced since is no note about the one that is renamed.
#[test]
fn only_notes_that_hold_travel() {
    let Some(place) = of_server("apache-tls", "archive") else { return };
    let station = Station::new();
    station.know(&place);
    let there = place.served.clone().unwrap().join("counts");
    station.write("heron.csv", "heron,3", 1_900_000_000);
    station.run(&["job", "add", "counts", "two-way", "left", "@archive/counts", "--yes"]).expect(0);
    let run = || station.run_job(&["--yes"]).expect(0).last();
    assert_eq!(number(&run(), "added"), 1);
    fs::write(there.join("heron.csv"), "heron,9").unwrap();
    assert_eq!(number(&run(), "updated"), 1);
    fs::rename(station.left().join("heron.csv"), station.left().join("rail.csv")).unwrap();
    assert_eq!(number(&run(), "moved"), 1);
    let quiet = run();
    assert_eq!((number(&quiet, "meta"), number(&quiet, "same")), (0, 1), "{quiet}");
}

/// A time that one machine gives to a file is there for every other one.
#[test]
fn a_new_time_alone_reaches_the_other_machine_at_an_object_store() {
    let Some(place) = of_server("objects", "archive") else { return };
    let machines = [Station::new(), Station::new()];
    for machine in &machines {
        machine.know(&place);
        machine
            .run(&["job", "add", "counts", "two-way", "left", "@archive/counts", "--verify", "all", "--yes"])
            .expect(0);
    }
    let run = |machine: usize| machines[machine].run_job(&["--yes"]).expect(0).last();
    let time = |machine: usize| fs::metadata(machines[machine].left().join("heron.csv")).unwrap().mtime();
    for (seconds, from, to) in [(1_900_000_000, 0, 1), (1_900_000_500, 1, 0), (1_900_000_900, 0, 1)] {
        machines[from].write("heron.csv", "heron,3", seconds);
        run(from);
        let carried = run(to);
        assert_eq!(time(to), i64::try_from(seconds).unwrap(), "{carried}");
        for machine in [from, to] {
            let quiet = run(machine);
            assert_eq!((number(&quiet, "meta"), number(&quiet, "updated")), (0, 0), "{quiet}");
        }
    }
}

/// What another tool has put there says no time; it is asked for once, and not again.
#[test]
fn objects_of_other_tools_are_asked_for_once() {
    let Some(server) = servers::Server::start("objects") else { return };
    let address = format!("http://localhost:{}/archive", server.port);
    let put = |below: &str, content: &str| {
        let address = format!("{address}{below}");
        let words = ["-sS", "-o", "/dev/null", "-X", "PUT", "-d", content, &address];
        assert!(std::process::Command::new("curl").args(words).status().unwrap().success());
    };
    put("", "");
    for number in 0..25 {
        put(&format!("/counts/{number}.csv"), "heron,3");
    }
    let station = Station::new();
    let location = format!("s3://localhost:{}/archive", server.port);
    station.run(&["store", "add", "archive", &location, "--user", servers::USER]).expect(0);
    station.run(&["job", "add", "counts", "mirror", "@archive/counts", "left", "--yes"]).expect(0);
    let run = || {
        let mut command = station.command(&["run", "counts", "--yes", "--json"]);
        common::Ran::of(&command.env("REEDHOOK_SECRET", servers::PASSWORD).output().unwrap()).expect(0).last()
    };
    let asked = || {
        let log = fs::read_to_string(server.file("run/objects.log")).unwrap();
        log.lines().filter(|line| line.contains("\"HEAD /archive/counts/")).count()
    };
    assert_eq!(number(&run(), "added"), 25);
    run();
    let before = asked();
    assert!(before >= 25, "the log tells of requests: {before}");
    assert_eq!(number(&run(), "same"), 25);
    assert_eq!(asked(), before, "nothing is asked for again");
    // What we have put there ourselves is known without a question.
    station.run(&["job", "add", "up", "mirror", "left", "@archive/up", "--yes"]).expect(0);
    let up = || {
        let mut command = station.command(&["run", "up", "--yes", "--json"]);
        common::Ran::of(&command.env("REEDHOOK_SECRET", servers::PASSWORD).output().unwrap()).expect(0).last()
    };
    assert_eq!(number(&up(), "added"), 25);
    let asked = || {
        let log = fs::read_to_string(server.file("run/objects.log")).unwrap();
        log.lines().filter(|line| line.contains("\"HEAD /archive/up/") && line.contains(".csv")).count()
    };
    let before = asked();
    assert_eq!(number(&up(), "same"), 25);
    assert_eq!(asked(), before, "our own");
}

/// Another machine's change of the same size within the minute that listings for people tell: seen, and neither lost nor undone.
#[test]
fn a_change_within_the_step_of_a_listing_is_seen() {
    for kind in ["two-way", "mirror"] {
        let Some(place) = of_server("proftpd-plain", "archive") else { return };
        let station = Station::new();
        station.know(&place);
        let there = place.served.clone().unwrap().join("counts");
        station.write("heron.csv", "heron,3", 1_900_000_000);
        station.write("large.bin", &"x".repeat(5 << 20), 1_900_000_000);
        station.run(&["job", "add", "counts", kind, "left", "@archive/counts", "--yes"]).expect(0);
        station.run_job(&["--yes"]).expect(0);
        let quiet = station.run_job(&["--yes"]).expect(0).last();
        assert_eq!((number(&quiet, "updated"), number(&quiet, "meta")), (0, 0), "{kind}: {quiet}");
        for (name, content) in [("heron.csv", "heron,9".to_owned()), ("large.bin", "y".repeat(5 << 20))] {
            let file = there.join(name);
            let before = fs::metadata(&file).unwrap().modified().unwrap();
            fs::write(&file, content).unwrap();
            fs::File::options().write(true).open(&file).unwrap().set_modified(before).unwrap();
        }
        let ran = station.run_job(&["--yes"]).expect(0).last();
        assert_eq!(number(&ran, "updated"), 2, "{kind}: {ran}");
        let (ours, theirs) = (fs::read(station.left().join("heron.csv")), fs::read(there.join("heron.csv")));
        let wanted: &[u8] = if kind == "two-way" { b"heron,9" } else { b"heron,3" };
        assert_eq!((ours.unwrap().as_slice(), theirs.unwrap().as_slice()), (wanted, wanted), "{kind}");
        if kind == "mirror" {
            let kept = tree(&there.join(".reedhook/kept"));
            assert!(kept.keys().any(|path| path.ends_with("heron.csv")), "what was replaced is kept");
        }
    }
}

/// Keys of other tools that no path can be are a problem each; everything else is carried.
#[test]
fn an_odd_key_does_not_make_a_bucket_unusable() {
    let Some(server) = servers::Server::start("objects") else { return };
    let put = |below: &str| {
        let address = format!("http://localhost:{}/archive{below}", server.port);
        let words = [
            "-sS",
            "-o",
            "/dev/null",
            "--path-as-is",
            "-X",
            "PUT",
            "-H",
            "content-type: text/plain",
            "-d",
            "heron,3",
            &address,
        ];
        assert!(std::process::Command::new("curl").args(words).status().unwrap().success());
    };
    let station = Station::new();
    let location = format!("s3://localhost:{}/archive", server.port);
    station.run(&["store", "add", "archive", &location, "--user", servers::USER]).expect(0);
    let mut check = station.command(&["store", "check", "archive"]);
    let check = common::Ran::of(&check.env("REEDHOOK_SECRET", servers::PASSWORD).output().unwrap());
    assert!(check.err.contains("there is no bucket \"archive\""), "{}", check.err);
    let bucket = format!("http://localhost:{}/archive", server.port);
    let made =
        std::process::Command::new("curl").args(["-sS", "-o", "/dev/null", "-X", "PUT", &bucket]).status();
    assert!(made.unwrap().success());
    for key in
        ["/counts/plain.csv", "/counts/a//x", "/counts/a/y.csv", "/counts/b/%2E%2E/x", "/counts/b/z.csv"]
    {
        put(key);
    }
    station.run(&["job", "add", "counts", "mirror", "@archive/counts", "left", "--yes"]).expect(0);
    let run = || {
        let mut command = station.command(&["run", "counts", "--yes", "--json"]);
        common::Ran::of(&command.env("REEDHOOK_SECRET", servers::PASSWORD).output().unwrap())
    };
    let first = run().expect(1);
    assert_eq!(number(&first.last(), "added"), 3, "{}", first.out);
    let odd: Vec<_> = first.json().into_iter().filter(|line| line["event"] == "problem").collect();
    assert!(odd.iter().all(|problem| problem["code"] == "name-refused"), "{}", first.out);
    assert!(!odd.is_empty() && odd.len() <= 2, "{}", first.out);
    for name in ["plain.csv", "a/y.csv", "b/z.csv"] {
        assert_eq!(fs::read(station.left().join(name)).unwrap(), b"heron,3");
    }
    assert_eq!(number(&run().expect(1).last(), "added"), 0);
}

/// A name that the server uses itself and never shows is said to be one.
#[test]
fn a_name_that_the_server_keeps_to_itself_is_said() {
    let Some(place) = of_server("apache-tls", "archive") else { return };
    let station = Station::new();
    station.know(&place);
    station.write(".DAV/notes.txt", "reed", 1_900_000_000);
    station.write("plain.csv", "heron,3", 1_900_000_000);
    station.run(&["job", "add", "counts", "mirror", "left", "@archive/counts", "--yes"]).expect(0);
    station.run_job(&["--yes"]);
    let again = station.run_job(&["--yes"]).expect(1);
    let problems: Vec<_> = again.json().into_iter().filter(|line| line["event"] == "problem").collect();
    assert!(problems.iter().all(|problem| problem["code"] == "name-refused"), "{}", again.out);
    assert!(again.out.contains("keeps the name .DAV to itself"), "{}", again.out);
    assert_eq!(number(&again.last(), "same"), 1, "{}", again.out);
}

/// A server that lets an account in only so often is served by those connections that it allows.
#[test]
fn a_server_that_allows_few_connections_is_served_by_few() {
    let Some(place) = of_server("proftpd-few", "archive") else { return };
    let station = Station::new();
    station.know(&place);
    for number in 0..60 {
        station.write(&format!("site-{}/{number}.csv", number % 7), "heron,3", 1_900_000_000);
    }
    station.run(&["job", "add", "counts", "mirror", "left", "@archive/counts", "--yes"]).expect(0);
    assert_eq!(number(&station.run_job(&["--yes"]).expect(0).last(), "added"), 60);
    station.run(&["verify", "counts"]).expect(0);
}

/// Whoever has read a file to its end keeps the connection: a verification does not log in for each file.
#[test]
fn a_verification_over_ftp_logs_in_a_few_times() {
    let Some(server) = servers::Server::start("proftpd-tls") else { return };
    let station = Station::new();
    let location = format!("ftps://localhost:{}/", server.port);
    let authority = server.file("authority.pem").to_str().unwrap().to_owned();
    station
        .run(&["store", "add", "archive", &location, "--user", servers::USER, "--authorities", &authority])
        .expect(0);
    for number in 0..60 {
        station.write(&format!("{number}.csv"), "heron,3", 1_900_000_000);
    }
    station.run(&["job", "add", "counts", "mirror", "left", "@archive/counts", "--yes"]).expect(0);
    let with_secret = |words: &[&str]| {
        let mut command = station.command(words);
        common::Ran::of(&command.env("REEDHOOK_SECRET", servers::PASSWORD).output().unwrap()).expect(0)
    };
    with_secret(&["run", "counts", "--yes"]);
    let log_ins = || {
        let log = fs::read_to_string(server.file("run/commands.log")).unwrap_or_default();
        log.lines().filter(|line| line.contains("\"PASS ")).count()
    };
    let before = log_ins();
    assert!(before > 0, "the log tells of logins");
    with_secret(&["verify", "counts"]);
    assert!(log_ins() - before <= 13, "{} logins for 60 files", log_ins() - before);
}

/// What to do after a failed login depends on where the secret came from.
#[test]
fn after_a_failed_login_the_hint_is_about_where_the_secret_came_from() {
    let station = Station::new();
    let standin = places::standin(&station, reedhook_standins::Kind::WebDav, Default::default());
    let location = standin.location("archive");
    let refused = |name: &str, options: &[&str], secret: Option<&str>| {
        station
            .run(&[&["store", "add", name, &location, "--user", servers::USER], options].concat())
            .expect(0);
        let mut command = station.command(&["store", "check", name]);
        command.env("SPARE", "wrong");
        secret.map(|secret| command.env("REEDHOOK_SECRET", secret));
        common::Ran::of(&command.output().unwrap()).expect(3).err
    };
    let told = refused("one", &["--secret", "env SPARE"], None);
    assert!(told.contains("came from the variable SPARE"), "{told}");
    let told = refused("two", &["--secret", "command echo wrong"], None);
    assert!(told.contains("came from the command `echo wrong`"), "{told}");
    let told = refused("three", &[], Some("wrong"));
    assert!(told.contains("came from the variable REEDHOOK_SECRET"), "{told}");
}

/// A server that speaks TLS from the first byte on waits for us, as we wait for it.
#[test]
fn an_ftp_server_that_does_not_greet_is_told_of_within_seconds() {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let silent = std::thread::spawn(move || listener.accept().map(|(stream, _)| stream));
    let station = Station::new();
    station.run(&["store", "add", "archive", &format!("ftps://127.0.0.1:{port}/")]).expect(0);
    let ran = station.run(&["store", "check", "archive"]).expect(3);
    assert!(ran.err.contains("it may want TLS from the first byte on"), "{}", ran.err);
    drop(silent.join().unwrap().unwrap());
}

/// Of several files of known hosts, made up for this, ssh itself lets in with those that we let in with, and with no other.
#[test]
fn hosts_are_known_as_ssh_itself_knows_them() {
    let Some(server) = servers::Server::start("sshd") else { return };
    if std::process::Command::new("ssh").arg("-V").output().is_err() {
        assert!(std::env::var_os("REEDHOOK_REQUIRE_ALL").is_none(), "ssh is not installed");
        return;
    }
    let key_of = |name: &str| {
        let text = fs::read_to_string(server.file(name)).unwrap();
        text.split_whitespace().take(2).collect::<Vec<_>>().join(" ")
    };
    // The account's own key is some other key.
    let (host, other) = (key_of("host_key.pub"), key_of("key.pub"));
    let port = server.port.to_string();
    let station = Station::new();
    let key = server.file("key").to_str().unwrap().to_owned();
    let location = format!("sftp://127.0.0.1:{port}{}", server.root().display());
    station.run(&["store", "add", "archive", &location, "--key", &key]).expect(0);
    fs::create_dir_all(station.path(".ssh")).unwrap();
    let known = station.path(".ssh/known_hosts");
    let files = [
        ("", false),
        ("[127.0.0.1]:PORT HOST\n", true),
        ("[127.0.0.1]:PORT OTHER\n", false),
        ("[127.0.0.1]:PORT OTHER\n[127.0.0.1]:PORT HOST\n", true),
        ("# a comment\n\n\t[127.0.0.1]:PORT\tHOST\tmade up\n", true),
        ("127.0.0.1 HOST\n", true),
        ("127.0.0.1 OTHER\n", false),
        ("[127.0.0.1]:PORT HOST\n@revoked [127.0.0.1]:PORT HOST\n", false),
        ("@revoked * HOST\n[127.0.0.1]:PORT HOST\n", false),
        ("@revoked * OTHER\n[127.0.0.1]:PORT HOST\n", true),
        ("@cert-authority * HOST\n", false),
        ("@cert-authority * OTHER\n[127.0.0.1]:PORT HOST\n", true),
        ("@unheard-of * HOST\n", false),
        ("[127.0.0.1]:PORT ssh-ed25519 nonsense\n[127.0.0.1]:PORT HOST\n", true),
        ("[127.0.0.1]:PORT\n[127.0.0.1]:PORT HOST\n", true),
        ("[127.0.0.?]:PORT HOST\n", true),
        ("[127.*]:* HOST\n", true),
        ("!*:PORT,* HOST\n", true),
        ("*,!127.0.0.1,![127.0.0.1]:PORT HOST\n", false),
        ("gate.example,[127.0.0.1]:PORT HOST # one of two\n", true),
        ("127.0.0.1:PORT HOST\n", false),
        ("|1|nonsense|nonsense HOST\n[127.0.0.1]:PORT HOST\n", true),
    ];
    for (text, expected) in files {
        let text = text.replace("PORT", &port).replace("HOST", &host).replace("OTHER", &other);
        fs::write(&known, &text).unwrap();
        let ssh = std::process::Command::new("ssh")
            .args(["-F", "none", "-i", &key, "-p", &port, "-o", "BatchMode=yes", "-o", "UpdateHostKeys=no"])
            .args(["-o", "StrictHostKeyChecking=yes", "-o", "GlobalKnownHostsFile=/dev/null", "-o"])
            .arg(format!("UserKnownHostsFile={}", known.display()))
            .args(["127.0.0.1", "true"])
            .output()
            .unwrap();
        assert_eq!(ssh.status.success(), expected, "ssh with {text:?}: {}", common::Ran::of(&ssh).err);
        let ours = station.run(&["store", "check", "archive"]);
        assert_eq!(ours.code == 0, expected, "ours with {text:?}: {}", ours.err);
    }
}

/// A server with one channel for each connection is asked for a second one now and then at most.
#[test]
fn a_host_that_allows_one_channel_is_served_by_it() {
    let Some(place) = of_server("sshd-one", "archive") else { return };
    let station = Station::new();
    station.know(&place);
    for number in 0..60 {
        station.write(&format!("site-{}/{number}.csv", number % 7), "heron,3", 1_900_000_000);
    }
    station.run(&["job", "add", "counts", "mirror", "left", "@archive/counts", "--yes"]).expect(0);
    assert_eq!(number(&station.run_job(&["--yes"]).expect(0).last(), "added"), 60);
    let folder = place.served.clone().unwrap();
    let log = fs::read_to_string(folder.parent().unwrap().join("run/sshd.log")).unwrap();
    let refused = log.lines().filter(|line| line.contains("no more sessions")).count();
    assert!(refused > 0 && refused <= 4, "it refused {refused} times");
}

/// Where a run makes the folder at a server, it asks for the space there before the first byte.
#[test]
fn a_server_without_space_is_seen_before_the_first_byte() {
    if !common::with_mounts("a server with little room", &[]) {
        return;
    }
    let station = Station::new();
    let little = common::Mounted::memory(&station.path("little"), "4m");
    let Some(place) = in_folder("sshd", "archive", &little.0) else { return };
    station.know(&place);
    station.run(&["job", "add", "counts", "mirror", "left", "@archive/counts/2031", "--yes"]).expect(0);
    write(&station.left().join("large.bin"), &vec![7; 9 << 20], 1_900_000_000);
    let ran = station.run_job(&["--yes"]).expect(3);
    assert_eq!(ran.last()["code"], "too-little-space", "{}", ran.out);
    common::assert_no_leftovers(&little.0);
}

/// A bucket can hold an object and others "below" it; no disk can.
#[test]
fn a_file_and_a_folder_of_one_name_in_a_bucket_are_said_as_such() {
    let Some(place) = of_server("objects", "archive") else { return };
    let port = place.location.rsplit(':').next().unwrap().split('/').next().unwrap().to_owned();
    for key in ["counts/may", "counts/may/heron.csv", "counts/rail.csv"] {
        let address = format!("http://localhost:{port}/archive/{key}");
        let words = ["-sS", "-f", "-o", "/dev/null", "-X", "PUT", "-d", "heron,3", &address];
        assert!(std::process::Command::new("curl").args(words).status().unwrap().success());
    }
    let station = Station::new();
    station.know(&place);
    station.run(&["job", "add", "counts", "mirror", "@archive/counts", "left", "--yes"]).expect(0);
    let first = station.run_job(&["--yes"]).expect(1);
    assert_eq!(number(&first.last(), "added"), 1, "{}", first.out);
    assert!(first.out.contains("is an object and a folder there"), "{}", first.out);
    assert_eq!(station.run_job(&["--yes"]).expect(1).last()["added"], 0);
}

/// A full disk at the server is a full disk, and what could not be finished is not left there to fill it.
#[test]
fn a_full_disk_at_a_server_is_said_as_such() {
    if !common::with_mounts("servers with little room", &[]) {
        return;
    }
    // The last lets an account in only twice, so each connection is in use when the disk is full.
    for kind in ["sshd", "proftpd", "proftpd-few"] {
        let station = Station::new();
        let little = common::Mounted::memory(&station.path("little"), "4m");
        let Some(server) = servers::Server::start_in(kind, Some(&little.0)) else { return };
        let (location, options, secret) = match kind {
            "sshd" => {
                let key = server.file("key").to_str().unwrap().to_owned();
                let location = format!("sftp://127.0.0.1:{}{}", server.port, server.root().display());
                (location, vec!["--key".to_owned(), key], "")
            }
            _ => {
                let user = vec!["--user".to_owned(), servers::USER.to_owned()];
                (format!("ftp://localhost:{}/", server.port), user, servers::PASSWORD)
            }
        };
        let options: Vec<&str> = options.iter().map(String::as_str).collect();
        station.run(&[&["store", "add", "archive", &location], options.as_slice()].concat()).expect(0);
        if kind == "sshd" {
            let key = fs::read_to_string(server.file("host_key.pub")).unwrap();
            fs::create_dir_all(station.path(".ssh")).unwrap();
            fs::write(station.path(".ssh/known_hosts"), format!("[127.0.0.1]:{} {key}", server.port))
                .unwrap();
        }
        station.run(&["job", "add", "counts", "mirror", "left", "@archive/counts", "--yes"]).expect(0);
        station.write("small.csv", "heron,3", 1_900_000_000);
        for name in ["large.bin", "larger.bin", "largest.bin"] {
            write(&station.left().join(name), &vec![7; 9 << 20], 1_900_000_000);
        }
        let mut run = station.command(&["run", "counts", "--yes", "--json", "--allow", "space"]);
        let ran = common::Ran::of(&run.env("REEDHOOK_SECRET", secret).output().unwrap()).expect(1);
        let problems: Vec<_> = ran.json().into_iter().filter(|line| line["event"] == "problem").collect();
        // This FTP server says no more than "Input/output error"; that not even a little fits beside what it let us begin says more. The
        // small file may have come while the large ones took all there was.
        assert!(problems.iter().all(|problem| problem["code"] == "no-space"), "{kind}: {}", ran.out);
        assert!(problems.iter().any(|problem| problem["path"] == "large.bin"), "{kind}: {}", ran.out);
        common::assert_no_leftovers(&server.root());
    }
}

/// A certificate that nobody known vouches for is told as such over every protocol, also where the machine knows nobody at all, as a
/// rescue system does. Without TLS nobody has to be known.
#[test]
fn distrust_is_told_as_such_and_only_tls_needs_certificates() {
    let bare = [("SSL_CERT_FILE", "/dev/null"), ("SSL_CERT_DIR", "/nowhere")];
    for (kind, scheme) in [("proftpd-tls", "ftps"), ("apache-tls", "davs")] {
        let Some(server) = servers::Server::start(kind) else { return };
        let location = format!("{scheme}://localhost:{}/", server.port);
        for (machine, words) in [(&[][..], "UnknownIssuer"), (&bare, "no certificates of authorities")] {
            let station = Station::new();
            let mut check = station.command(&["store", "check", &location]);
            check.env("REEDHOOK_SECRET", servers::PASSWORD).envs(machine.iter().copied());
            let told = common::Ran::of(&check.output().unwrap()).expect(3);
            assert!(told.err.contains("is not trusted") && told.err.contains(words), "{kind}: {}", told.err);
        }
    }
    for kind in [Kind::WebDav, Kind::Object] {
        let station = Station::new();
        let running = standin(&station, kind, Behaviour::default());
        know_standin(&station, &running);
        let mut check = station.command(&["store", "check", "archive", "--write"]);
        common::Ran::of(&check.envs(bare).output().unwrap()).expect(0);
    }
}
