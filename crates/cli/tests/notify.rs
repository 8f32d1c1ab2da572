//! Who is told what came of runs, against what is really there: mail servers with TLS and accounts, web servers well and badly behaved, a
//! desktop on a bus of its own, commands; and what becomes of what could not be told.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;
#[path = "common/desktop.rs"]
mod desktop;
#[path = "../../stores/tests/servers/mod.rs"]
mod servers;
#[path = "common/tending.rs"]
mod tending;

use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpListener;
use std::os::unix::fs::PermissionsExt;
use std::process::Stdio;
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use common::*;
use desktop::{Bus, desktop};
use reedhook_record::{Mornings, Notification, StateFile, Telling};
use reedhook_testing::signals::Signal;
use serde_json::{Value, json};
use servers::Server;
use tending::Tending;

const OLD: u64 = 1_900_000_000;

/// A station whose job has a problem each time: a file stands against a folder, and a copy replaces neither.
fn troubled() -> Station {
    let station = Station::with_job("copy", &[]);
    station.write("heron", "a file", OLD);
    write(&station.right().join("heron/in a folder.csv"), b"1", OLD);
    station
}

fn set_up(station: &Station, notify: &str) {
    let file = station.path("home/reedhook.toml");
    fs::create_dir_all(station.path("home")).unwrap();
    fs::write(&file, format!("# kept by hand\n[notify]\n{notify}\n")).unwrap();
}

/// What the mail server has got.
fn mails(server: &Server) -> Vec<Value> {
    let text = fs::read_to_string(server.file("mails")).unwrap_or_default();
    text.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

/// What was told of a station's jobs, as remembered.
fn told(station: &Station) -> Vec<(String, Telling, String)> {
    let record = StateFile::open(&station.path("home/state.db")).unwrap();
    record.told_since(0).unwrap().into_iter().map(|told| (told.way, told.telling, told.message)).collect()
}

#[test]
fn commands_are_told_what_they_ask_for_and_a_job_says_otherwise() {
    let station = troubled();
    set_up(&station, r#"command = { run = "cat > said; env | grep ^REEDHOOK_ | sort > knew" }"#);
    let said = || fs::read_to_string(station.path("said")).unwrap_or_default();
    station.run(&["run", "counts"]).expect(1);
    assert!(
        said().starts_with("counts had 1 problem\n")
            && said().contains("kind-differs: 1 item, such as heron"),
        "{}",
        said()
    );
    let knew = fs::read_to_string(station.path("knew")).unwrap();
    for line in
        ["REEDHOOK_JOB=counts", "REEDHOOK_OUTCOME=problems", "REEDHOOK_PROBLEMS=1", "REEDHOOK_NUMBER=1"]
    {
        assert!(knew.lines().any(|known| known == line), "no {line} in {knew}");
    }
    // Well, so nobody hears of it, unless the job says so.
    let quiet = |words: &[&str], code: i32| {
        let _ = fs::remove_file(station.path("said"));
        station.run(words).expect(code);
        said()
    };
    fs::remove_file(station.left().join("heron")).unwrap();
    assert_eq!(quiet(&["run", "counts"], 0), "");
    station.run(&["job", "edit", "counts", "--notify", "command always"]).expect(0);
    assert!(quiet(&["run", "counts"], 0).starts_with("counts is done\n"));
    station.run(&["job", "edit", "counts", "--notify", "all never"]).expect(0);
    assert_eq!(quiet(&["run", "counts"], 0), "");
    // Refused before it began, which is a trouble.
    station.run(&["job", "edit", "counts", "--unset", "notify"]).expect(0);
    fs::rename(station.left(), station.path("elsewhere")).unwrap();
    let refused = quiet(&["run", "counts"], 3);
    assert!(refused.starts_with("counts was refused\n") && refused.contains("not there"), "{refused}");
    // Without a job, too.
    fs::rename(station.path("elsewhere"), station.left()).unwrap();
    station.write("heron", "a file", OLD);
    assert!(quiet(&["once", "copy", "left", "right"], 1).starts_with("once had 1 problem"));
    // Somebody's remarks in the settings stay when a store is named.
    station.run(&["store", "add", "field-drive", "right"]).expect(0);
    let settings = fs::read_to_string(station.path("home/reedhook.toml")).unwrap();
    assert!(
        settings.starts_with("# kept by hand\n[notify]\n") && settings.contains("[stores.field-drive]"),
        "{settings}"
    );
    station.run(&["run", "counts"]).expect(1);
    station.run(&["store", "remove", "field-drive"]).expect(0);
    assert!(!fs::read_to_string(station.path("home/reedhook.toml")).unwrap().contains("field-drive"));
}

#[test]
fn slips_in_the_settings_are_named_and_nothing_is_touched() {
    let station = troubled();
    let rows = [
        ("mail = { on = \"always\" }", "missing field `to`"),
        ("desktop = { on = \"sometimes\" }", "expected one of: problems always never"),
        ("webhook = { url = \"hooks.fenmere.example\" }", "is no address"),
        ("mail = { to = \"a@fenmere.example\", secret = \"marsh tit\" }", "must not be given here"),
        ("pigeon = {}", "unknown field"),
    ];
    for (notify, expected) in rows {
        set_up(&station, notify);
        let refused = station.run(&["run", "counts"]).expect(2);
        assert!(refused.err.contains(expected), "{notify}: {}", refused.err);
        assert!(!refused.err.contains("marsh"), "no secret is repeated: {}", refused.err);
    }
    fs::remove_file(station.path("home/reedhook.toml")).unwrap();
    let slip = station.run(&["job", "edit", "counts", "--notify", "mail"]).expect(2);
    assert!(slip.err.contains("mail always"), "{}", slip.err);
    let nothing = station.run(&["notify", "test"]).expect(2);
    assert!(nothing.err.contains("[notify]"), "{}", nothing.err);
    assert!(!station.path("home/runs").exists(), "nothing ran");
}

#[test]
fn mail_goes_over_tls_with_an_account_and_says_why_when_it_does_not() {
    for (kind, scheme) in [("smtps", "smtps"), ("smtp-starttls", "smtp")] {
        let Some(server) = Server::start(kind) else { return };
        let station = troubled();
        let authorities = server.file("authority.pem");
        let mail = |authorities: &str, user: &str| {
            let port = server.port;
            set_up(
                &station,
                &format!(
                    "mail = {{ to = [\"warden@fenmere.example\", \"ranger@fenmere.example\"], from = \"Station <station@fenmere.example>\", server = \"{scheme}://localhost:{port}\", user = \"{user}\", {authorities} secret = \"env MAIL_SECRET\" }}"
                ),
            );
        };
        let with_secret = |words: &[&str], secret: &str| {
            Ran::of(&station.command(words).env("MAIL_SECRET", secret).output().unwrap())
        };
        let trusted = format!("authorities = \"{}\",", authorities.display());
        mail(&trusted, servers::USER);
        with_secret(&["run", "counts"], servers::PASSWORD).expect(1);
        let got = mails(&server);
        assert_eq!(got.len(), 1, "{kind}");
        assert_eq!(got[0]["subject"], "Reedhook: counts had 1 problem");
        assert_eq!(got[0]["to"], json!(["warden@fenmere.example", "ranger@fenmere.example"]));
        assert_eq!((&got[0]["account"], &got[0]["tls"]), (&json!(servers::USER), &json!(true)), "{kind}");
        assert_eq!(got[0]["head"], "Station <station@fenmere.example>");
        assert!(got[0]["text"].as_str().unwrap().contains("reedhook history counts 1"), "{}", got[0]["text"]);
        // A wrong password, nobody who vouches for the server, no password: each says why, and no run fails of it.
        let wrong = with_secret(&["run", "counts"], "bittern").expect(1);
        assert!(wrong.err.contains("could not be told") && wrong.err.contains("535"), "{}", wrong.err);
        mail("", servers::USER);
        let untrusted = with_secret(&["run", "counts"], servers::PASSWORD).expect(1);
        assert!(untrusted.err.contains("certificate"), "{}", untrusted.err);
        mail(&trusted, servers::USER);
        let without = station.run(&["run", "counts"]).expect(1);
        assert!(without.err.contains("MAIL_SECRET is not set"), "{}", without.err);
        assert_eq!(mails(&server).len(), 1, "nothing got through");
        // The next report says so.
        let report = station.run(&["report"]).expect(0);
        assert!(
            report.out.contains("mail") && report.out.contains("3 notifications could not be sent"),
            "{}",
            report.out
        );
        // No secret is anywhere but where it came from.
        for said in [&wrong.err, &untrusted.err, &report.out] {
            assert!(!said.contains("bittern") && !said.contains(servers::PASSWORD), "{said}");
        }
        let state = fs::read(station.path("home/state.db")).unwrap();
        assert!(!String::from_utf8_lossy(&state).contains("bittern"));
    }
}

#[test]
fn a_password_is_kept_for_mails_and_a_local_server_needs_none() {
    let (Some(secure), Some(plain)) = (Server::start("smtps"), Server::start("smtp")) else { return };
    let station = troubled();
    let (port, authorities) = (secure.port, secure.file("authority.pem").display().to_string());
    set_up(
        &station,
        &format!(
            "mail = {{ to = \"warden@fenmere.example\", server = \"smtps://127.0.0.1:{port}\", user = \"ranger\", authorities = \"{authorities}\" }}"
        ),
    );
    let mut keep = station.command(&["notify", "secret", "mail"]);
    let mut child = keep.stdin(Stdio::piped()).stdout(Stdio::null()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(servers::PASSWORD.as_bytes()).unwrap();
    assert!(child.wait().unwrap().success());
    let tried = station.run(&["notify", "test"]).expect(0);
    assert!(
        tried.out.contains("warden@fenmere.example, by 127.0.0.1") && tried.out.contains("sent"),
        "{}",
        tried.out
    );
    assert_eq!(mails(&secure)[0]["subject"], "Reedhook: a trial");
    station.run(&["notify", "secret", "mail", "--forget"]).expect(0);
    assert!(station.run(&["notify", "test", "mail"]).expect(1).out.contains("reedhook notify secret mail"));
    // A store's secret is nobody else's.
    let other =
        station.command(&["notify", "test"]).env("REEDHOOK_SECRET", servers::PASSWORD).output().unwrap();
    Ran::of(&other).expect(1);
    set_up(
        &station,
        &format!(
            "mail = {{ to = \"warden@fenmere.example\", server = \"smtp://127.0.0.1:{}\" }}",
            plain.port
        ),
    );
    station.run(&["run", "counts"]).expect(1);
    assert_eq!(mails(&plain)[0]["to"], json!(["warden@fenmere.example"]));
    // No server is named: the machine's own program takes it.
    let bin = station.path("bin");
    fs::create_dir(&bin).unwrap();
    fs::write(bin.join("sendmail"), "#!/bin/sh\necho \"$@\" > called; cat > mail\n").unwrap();
    fs::set_permissions(bin.join("sendmail"), fs::Permissions::from_mode(0o755)).unwrap();
    set_up(&station, "mail = { to = \"warden@fenmere.example\" }");
    let path = format!("{}:{}", bin.display(), std::env::var("PATH").unwrap());
    let ran = station.command(&["run", "counts"]).env("PATH", path).output().unwrap();
    let ran = Ran::of(&ran).expect(1);
    let mail = fs::read_to_string(station.path("mail")).unwrap_or_else(|_| panic!("{}", ran.err));
    assert!(mail.contains("Subject: Reedhook: counts had 1 problem"), "{mail}");
    assert!(fs::read_to_string(station.path("called")).unwrap().contains("warden@fenmere.example"));
}

/// A web server that answers each request as it is told, and hands on what it got: the head, and the body.
struct Web {
    port: u16,
    got: Receiver<(String, String)>,
}

impl Web {
    fn answering(answer: &'static str) -> Web {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let (send, got) = channel();
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let mut reader = BufReader::new(stream.try_clone().unwrap());
                let (mut head, mut length) = (String::new(), 0);
                loop {
                    let mut line = String::new();
                    if reader.read_line(&mut line).unwrap_or(0) == 0 || line == "\r\n" {
                        break;
                    }
                    let lower = line.to_ascii_lowercase();
                    if let Some(number) = lower.strip_prefix("content-length:") {
                        length = number.trim().parse().unwrap();
                    }
                    head.push_str(&line);
                }
                let mut body = vec![0; length];
                if reader.read_exact(&mut body).is_err() {
                    continue;
                }
                let _ = send.send((head, String::from_utf8(body).unwrap()));
                if answer == "never" {
                    std::thread::sleep(Duration::from_secs(60));
                }
                let mut stream = stream;
                let _ = stream.write_all(answer.as_bytes());
            }
        });
        Web { port, got }
    }
}

#[test]
fn a_web_server_gets_json_and_nobody_is_followed_elsewhere() {
    let station = troubled();
    let fine = Web::answering("HTTP/1.1 204 No Content\r\ncontent-length: 0\r\n\r\n");
    let hook = |port: u16| {
        set_up(
            &station,
            &format!(
                "webhook = {{ url = \"http://127.0.0.1:{port}/hooks/secret-part?a=b\", secret = \"env HOOK\" }}"
            ),
        );
    };
    let run =
        || Ran::of(&station.command(&["run", "counts"]).env("HOOK", "marsh-tit").output().unwrap()).expect(1);
    hook(fine.port);
    run();
    let (head, body) = fine.got.recv_timeout(Duration::from_secs(5)).unwrap();
    assert!(head.starts_with("POST /hooks/secret-part?a=b HTTP/1.1"), "{head}");
    assert!(head.to_ascii_lowercase().contains("authorization: bearer marsh-tit"), "{head}");
    let body: Value = serde_json::from_str(&body).unwrap();
    assert_eq!(
        (&body["event"], &body["job"], &body["outcome"], &body["problems"]),
        (&json!("run"), &json!("counts"), &json!("problems"), &json!(1))
    );
    assert_eq!(body["causes"][0]["code"], "kind-differs");
    assert!(body["text"].as_str().unwrap().contains("counts had 1 problem"));
    let elsewhere = Web::answering("HTTP/1.1 200 OK\r\ncontent-length: 0\r\n\r\n");
    let pointing = format!(
        "HTTP/1.1 307 Temporary Redirect\r\nlocation: http://localhost:{}/\r\ncontent-length: 0\r\n\r\n",
        elsewhere.port
    );
    let rows: [(&'static str, &str); 3] = [
        (Box::leak(pointing.into_boxed_str()), "points elsewhere, to localhost"),
        ("HTTP/1.1 403 Forbidden\r\ncontent-length: 0\r\n\r\n", "refused it: 403"),
        ("", "cannot be reached"),
    ];
    for (answer, expected) in rows {
        let web = Web::answering(answer);
        hook(web.port);
        let ran = run();
        assert!(ran.err.contains(expected), "{expected}: {}", ran.err);
        assert!(!ran.err.contains("secret-part") && !ran.err.contains("marsh-tit"), "{}", ran.err);
    }
    assert!(elsewhere.got.try_recv().is_err(), "nothing was sent where nobody asked to");
    // A token does not travel without TLS to other machines.
    set_up(&station, "webhook = { url = \"http://hooks.fenmere.example/x\", secret = \"env HOOK\" }");
    assert!(run().err.contains("without TLS"));
    let report = station.run(&["report"]).expect(0);
    assert!(report.out.contains("webhook") && !report.out.contains("secret-part"), "{}", report.out);
}

#[test]
fn a_server_that_never_answers_keeps_nobody_waiting_for_long_and_the_service_not_at_all() {
    let station = troubled();
    let web = Web::answering("never");
    set_up(&station, &format!("webhook = {{ url = \"http://127.0.0.1:{}/\", on = \"always\" }}", web.port));
    let mut tending = Tending::of(&station);
    for _ in 0..2 {
        station.run(&["tend", "run", "counts"]).expect(0);
        tending.ends("counts");
    }
    web.got.recv_timeout(Duration::from_secs(5)).unwrap();
    let begun = Instant::now();
    tending.signal(Signal::TERM);
    let (took, code) = tending.ended();
    assert_eq!(code, Some(0));
    assert!(took < Duration::from_secs(4) && begun.elapsed() < Duration::from_secs(6), "{took:?}");
    // What was under way is known to have been cut short.
    let told = told(&station);
    assert_eq!(told[0].1, Telling::Failed);
    assert!(told[0].2.contains("before it was sent"), "{told:?}");
}

#[test]
fn the_desktop_shows_what_is_not_well_and_a_machine_without_one_misses_nothing() {
    if !with_tools("a desktop", &["dbus-daemon"]) {
        return;
    }
    let station = troubled();
    set_up(&station, "desktop = { on = \"problems\" }");
    let without = station
        .command(&["run", "counts"])
        .env_remove("DBUS_SESSION_BUS_ADDRESS")
        .env_remove("XDG_RUNTIME_DIR")
        .output()
        .unwrap();
    let without = Ran::of(&without).expect(1);
    assert!(!without.err.contains("could not be told"), "{}", without.err);
    let bus = Bus::start();
    let (_connection, shown) = desktop(&bus);
    let run = || {
        station.command(&["run", "counts"]).env("DBUS_SESSION_BUS_ADDRESS", &bus.address).output().unwrap()
    };
    Ran::of(&run()).expect(1);
    let seen = shown.recv_timeout(Duration::from_secs(10)).unwrap();
    assert_eq!(seen.summary, "counts had 1 problem");
    assert!(seen.body.contains("kind-differs"), "{}", seen.body);
    fs::remove_file(station.left().join("heron")).unwrap();
    Ran::of(&run()).expect(0);
    assert!(shown.try_recv().is_err(), "all is well");
}

#[test]
fn nobody_gets_more_than_they_can_read() {
    let station = troubled();
    set_up(&station, "command = { run = \"cat >> said\", at_most = 2 }");
    for _ in 0..5 {
        station.run(&["run", "counts"]).expect(1);
    }
    let said = fs::read_to_string(station.path("said")).unwrap();
    assert_eq!(said.matches("counts had 1 problem").count(), 2, "{said}");
    let held = told(&station).iter().filter(|told| told.1 == Telling::HeldBack).count();
    assert_eq!(held, 3);
    // The next one that may go says how many were held back.
    let mut record = StateFile::open(&station.path("home/state.db")).unwrap();
    let all = record.told_since(0).unwrap();
    for one in &all {
        record
            .add_told(
                &reedhook_record::Notification { at_ms: one.at_ms - 2 * 3_600_000, ..one.clone() },
                i64::MAX / 2,
            )
            .unwrap();
    }
    drop(record);
    set_up(&station, "command = { run = \"cat >> said\", at_most = 3 }");
    station.run(&["run", "counts"]).expect(1);
    let said = fs::read_to_string(station.path("said")).unwrap();
    assert!(said.contains("messages before this one were held back"), "{said}");
}

#[test]
fn what_begins_by_itself_many_times_a_day_tells_the_same_trouble_once() {
    let station = troubled();
    let web = Web::answering("HTTP/1.1 200 OK\r\ncontent-length: 0\r\n\r\n");
    set_up(
        &station,
        &format!(
            "webhook = {{ url = \"http://127.0.0.1:{}/\" }}\ncommand = {{ run = \"cat >> said\" }}",
            web.port
        ),
    );
    station.run(&["job", "edit", "counts", "--when", "every 1s"]).expect(0);
    let mut tending = Tending::of(&station);
    for _ in 0..3 {
        assert_eq!(tending.ends("counts")["outcome"], "problems");
    }
    // Another trouble is news.
    station.write("rail", "a file", OLD);
    write(&station.right().join("rail/in a folder.csv"), b"1", OLD);
    tending.wait("the other trouble", |line| line["event"] == "finished" && line["problems"] == 2);
    let first: Value =
        serde_json::from_str(&web.got.recv_timeout(Duration::from_secs(5)).unwrap().1).unwrap();
    let second: Value =
        serde_json::from_str(&web.got.recv_timeout(Duration::from_secs(5)).unwrap().1).unwrap();
    assert_eq!((&first["problems"], &second["problems"]), (&json!(1), &json!(2)));
    let (_, code) = {
        tending.signal(Signal::TERM);
        tending.ended()
    };
    assert_eq!(code, Some(0));
    assert!(web.got.try_recv().is_err());
    let said = fs::read_to_string(station.path("said")).unwrap();
    assert!(said.matches("counts had").count() >= 4, "a command hears everything: {said}");
}

#[test]
fn a_digest_comes_once_a_day_with_everything_since_the_last_one() {
    let Some(server) = Server::start("smtp") else { return };
    let station = troubled();
    // It was due a minute ago, whatever time it is, and was last sent the day before.
    let due = jiff::Zoned::now().checked_sub(jiff::SignedDuration::from_mins(1)).unwrap();
    let time = due.strftime("%H:%M").to_string();
    let mail = |port: u16| {
        set_up(
            &station,
            &format!(
                "mail = {{ to = \"warden@fenmere.example\", server = \"smtp://127.0.0.1:{port}\", on = \"digest {time}\" }}"
            ),
        );
    };
    mail(server.port);
    station.run(&["run", "counts"]).expect(1);
    assert_eq!(mails(&server), [] as [Value; 0], "what was before a digest was set up is nobody's news");
    let key = format!("mail {time}");
    let yesterday = due.timestamp().as_millisecond() - 80_000_000;
    let backdate = || {
        let mut record = StateFile::open(&station.path("home/state.db")).unwrap();
        record.set_digest(&key, yesterday).unwrap();
    };
    backdate();
    station.run(&["run", "counts"]).expect(1);
    let got = mails(&server);
    assert_eq!(got.len(), 1);
    assert_eq!(got[0]["subject"], "Reedhook: Not well: 1 of 1 job needs a look");
    let text = got[0]["text"].as_str().unwrap();
    assert!(text.contains("had 1 problem in its last run") && text.contains("Problems by cause"), "{text}");
    assert!(!text.contains('\u{1b}'), "a mail has no colours");
    station.run(&["run", "counts"]).expect(1);
    assert_eq!(mails(&server).len(), 1, "once a day");
    // The service sends it when it starts late; a server that is away gets it later.
    let port = server.port;
    drop(server);
    backdate();
    let tending = Tending::of(&station);
    let begun = Instant::now();
    let failed = || told(&station).iter().any(|told| told.1 == Telling::Failed && told.2.contains("refused"));
    let record = StateFile::open(&station.path("home/state.db")).unwrap();
    // It is still owed, as soon as it has failed.
    while !failed() || record.last_digest(&key).unwrap() != Some(yesterday) {
        assert!(begun.elapsed() < Duration::from_secs(20), "{:?}", told(&station));
        std::thread::sleep(Duration::from_millis(50));
    }
    drop(tending);
    let _ = port;
}

#[test]
fn a_digest_is_owed_until_it_has_been_sent_whatever_becomes_of_the_program() {
    let station = troubled();
    let due = jiff::Zoned::now().checked_sub(jiff::SignedDuration::from_mins(1)).unwrap();
    let time = due.strftime("%H:%M").to_string();
    let (key, yesterday) = (format!("command {time}"), due.timestamp().as_millisecond() - 80_000_000);
    set_up(
        &station,
        &format!(
            "command = {{ run = \"echo x >> begun; test -e quick || sleep 60; echo sent >> sent\", on = \"digest {time}\" }}"
        ),
    );
    station.run(&["run", "counts"]).expect(1);
    let mut record = StateFile::open(&station.path("home/state.db")).unwrap();
    record.set_digest(&key, yesterday).unwrap();
    let mut sending = station.command(&["run", "counts"]).stdout(Stdio::null()).spawn().unwrap();
    let begun = Instant::now();
    while !station.path("begun").exists() {
        assert!(begun.elapsed() < Duration::from_secs(20), "{:?}", told(&station));
        std::thread::sleep(Duration::from_millis(20));
    }
    // Meanwhile no other program sends it too.
    station.run(&["run", "counts"]).expect(1);
    sending.kill().unwrap();
    sending.wait().unwrap();
    assert_eq!(fs::read_to_string(station.path("begun")).unwrap(), "x\n");
    assert_eq!(record.last_digest(&key).unwrap(), Some(yesterday), "still owed");
    assert!(told(&station).iter().any(|told| told.1 == Telling::Failed), "{:?}", told(&station));
    let lock = fs::File::open(station.path("home/digests.lock")).unwrap();
    lock.try_lock().unwrap();
    drop(lock);
    // As if it had not failed lately.
    let other = Notification {
        way: "desktop".to_owned(),
        job: "counts".to_owned(),
        run: String::new(),
        what: String::new(),
        at_ms: jiff::Timestamp::now().as_millisecond(),
        telling: Telling::HeldBack,
        message: String::new(),
    };
    record.add_told(&other, 0).unwrap();
    fs::write(station.path("quick"), "").unwrap();
    station.run(&["run", "counts"]).expect(1);
    assert!(station.path("sent").exists() && record.last_digest(&key).unwrap() > Some(yesterday));
}

#[test]
fn a_digest_that_could_not_be_remembered_is_not_sent() {
    let station = troubled();
    let due = jiff::Zoned::now().checked_sub(jiff::SignedDuration::from_mins(1)).unwrap();
    let time = due.strftime("%H:%M").to_string();
    let (key, yesterday) = (format!("command {time}"), due.timestamp().as_millisecond() - 80_000_000);
    set_up(&station, &format!("command = {{ run = \"echo sent >> sent\", on = \"digest {time}\" }}"));
    station.run(&["run", "counts"]).expect(1);
    let file = station.path("home/state.db");
    StateFile::open(&file).unwrap().set_digest(&key, yesterday).unwrap();
    let db = rusqlite::Connection::open(&file).unwrap();
    let full = "CREATE TRIGGER full BEFORE INSERT ON digests BEGIN SELECT RAISE(FAIL, 'no room'); END";
    db.execute_batch(full).unwrap();
    // Otherwise it would be sent after each run, and every minute by the service.
    let said = station.run(&["run", "counts"]).expect(1).err;
    assert!(said.contains("the digest could not be made") && !station.path("sent").exists(), "{said}");
    db.execute_batch("DROP TRIGGER full").unwrap();
    station.run(&["run", "counts"]).expect(1);
    station.run(&["run", "counts"]).expect(1);
    assert_eq!(fs::read_to_string(station.path("sent")).unwrap(), "sent\n");
}

#[test]
fn what_has_to_be_told_is_told_before_the_machine_goes_off() {
    let station = troubled();
    set_up(&station, "command = { run = \"sleep 1; echo told >> order\" }");
    let file = station.path("home/reedhook.toml");
    let settings = fs::read_to_string(&file).unwrap();
    fs::write(&file, format!("countdown = \"1 s\"\n{settings}")).unwrap();
    let bin = station.path("bin");
    fs::create_dir(&bin).unwrap();
    fs::write(bin.join("systemctl"), "#!/bin/sh\necho \"$@\" >> order\n").unwrap();
    fs::set_permissions(bin.join("systemctl"), fs::Permissions::from_mode(0o755)).unwrap();
    station.run(&["job", "edit", "counts", "--finally", "power-off"]).expect(0);
    let path = format!("{}:{}", bin.display(), std::env::var("PATH").unwrap());
    let mut tending = Tending::with(&station, &[("PATH", &path)]);
    station.run(&["tend", "run", "counts"]).expect(0);
    tending.ends("counts");
    let begun = Instant::now();
    let order = || fs::read_to_string(station.path("order")).unwrap_or_default();
    while !order().contains("poweroff") {
        assert!(begun.elapsed() < Duration::from_secs(20), "{}", order());
        std::thread::sleep(Duration::from_millis(50));
    }
    assert_eq!(order(), "told\npoweroff\n");
}

#[test]
fn an_overdue_job_is_told_of_by_the_service() {
    let station = Station::with_job("mirror", &["--remind-after", "1 s"]);
    set_up(&station, "command = { run = \"cat > said.new; mv said.new said\" }");
    std::thread::sleep(Duration::from_millis(2100));
    let _tending = Tending::of(&station);
    let begun = Instant::now();
    while !station.path("said").exists() {
        assert!(begun.elapsed() < Duration::from_secs(20));
        std::thread::sleep(Duration::from_millis(50));
    }
    let said = fs::read_to_string(station.path("said")).unwrap();
    assert!(said.starts_with("counts is overdue\n") && said.contains("has never run well"), "{said}");
}

#[test]
fn a_job_that_is_taken_away_during_its_run_is_told_of_all_the_same() {
    let station = troubled();
    set_up(&station, "command = { run = \"cat > said.new; mv said.new said\" }");
    station
        .run(&[
            "job",
            "edit",
            "counts",
            "--when",
            "daily 03:00",
            "--before",
            "rm home/jobs/counts.toml; sleep 2",
        ])
        .expect(0);
    let mut tending = Tending::of(&station);
    station.run(&["tend", "run", "counts"]).expect(0);
    tending.ends("counts");
    let begun = Instant::now();
    while !station.path("said").exists() {
        assert!(begun.elapsed() < Duration::from_secs(20));
        std::thread::sleep(Duration::from_millis(50));
    }
}
