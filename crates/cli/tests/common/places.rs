//! Places at servers for tests: real ones and stand-ins.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]
#![allow(dead_code, reason = "each program uses its part of this")]

use std::fs;
use std::io::Write;
use std::path::PathBuf;
use std::process::Stdio;

use reedhook_standins::{Behaviour, Kind, Settings, Standin};

use crate::common::Station;
use crate::servers::{self, Server};

/// A place at a server that a test can use, for as long as the value lives.
pub struct Place {
    pub name: &'static str,
    pub location: String,
    pub options: Vec<String>,
    pub secret: Option<&'static str>,
    /// The folder behind it, where there is one to look into.
    pub served: Option<PathBuf>,
    /// The fingerprint to accept.
    pub fingerprint: Option<String>,
    pub _server: Box<dyn std::any::Any>,
}

impl Station {
    /// Gives a place its name and its secret; the host is accepted as a person would.
    pub fn know(&self, place: &Place) {
        let mut words = vec!["store", "add", place.name, &place.location];
        words.extend(place.options.iter().map(String::as_str));
        self.run(&words).expect(0);
        if let Some(secret) = place.secret {
            let mut keep = self.command(&["store", "secret", place.name]);
            let mut child = keep.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
            child.stdin.take().unwrap().write_all(secret.as_bytes()).unwrap();
            assert!(child.wait().unwrap().success());
        }
        if place.location.starts_with("sftp:") {
            let refused = self.run(&["store", "check", place.name]).expect(3);
            let shown = refused.err.split_whitespace().find(|word| word.starts_with("SHA256:")).unwrap();
            let shown = shown.trim_end_matches(['.', ';']);
            assert!(refused.err.contains("--accept"), "{}", refused.err);
            assert!(place.fingerprint.as_deref().is_none_or(|right| right == shown), "{shown}");
            self.run(&["store", "check", place.name, "--accept", shown]).expect(0);
        }
    }
}

pub fn of_server(kind: &'static str, name: &'static str) -> Option<Place> {
    Some(place_at(kind, name, Server::start(kind)?))
}

/// A server whose files are below a folder of one's own choice.
pub fn in_folder(kind: &'static str, name: &'static str, within: &std::path::Path) -> Option<Place> {
    Some(place_at(kind, name, Server::start_in(kind, Some(within))?))
}

fn place_at(kind: &'static str, name: &'static str, server: Server) -> Place {
    let (port, root) = (server.port, server.root());
    let file = |name: &str| server.file(name).to_str().unwrap().to_owned();
    let user = ["--user".to_owned(), servers::USER.to_owned()];
    let authority = ["--authorities".to_owned(), file("authority.pem")];
    let (location, options, secret) = match kind {
        "sshd" | "sshd-one" => {
            let own = std::env::var("USER").unwrap_or_else(|_| "root".to_owned());
            let options = vec!["--key".to_owned(), file("key"), "--user".to_owned(), own];
            (format!("sftp://127.0.0.1:{port}{}", root.display()), options, None)
        }
        "apache-tls" => {
            let options = [user, authority].concat();
            (format!("davs://localhost:{port}/files"), options, Some(servers::PASSWORD))
        }
        "proftpd-plain" | "proftpd-few" => {
            (format!("ftp://localhost:{port}/"), user.to_vec(), Some(servers::PASSWORD))
        }
        "proftpd-tls" => {
            (format!("ftps://localhost:{port}/"), [user, authority].concat(), Some(servers::PASSWORD))
        }
        _ => (format!("s3://localhost:{port}/archive"), user.to_vec(), Some(servers::PASSWORD)),
    };
    if kind == "objects" {
        let bucket = format!("http://localhost:{port}/archive");
        let made = std::process::Command::new("curl")
            .args(["-sS", "-o", "/dev/null", "-X", "PUT", &bucket])
            .status();
        assert!(made.unwrap().success());
    }
    let served = Some(root).filter(|_| kind != "objects");
    Place { name, location, options, secret, served, fingerprint: None, _server: Box::new(server) }
}

/// A stand-in over a folder of the station.
pub fn standin(station: &Station, kind: Kind, behaviour: Behaviour) -> Standin {
    let folder = station.path("served");
    fs::create_dir_all(folder.join("archive")).unwrap();
    let (user, secret) = (servers::USER.to_owned(), servers::PASSWORD.to_owned());
    Standin::start(kind, Settings { folder, port: 0, user, secret, behaviour }).unwrap()
}

pub fn know_standin(station: &Station, standin: &Standin) {
    let user = vec!["--user".to_owned(), servers::USER.to_owned()];
    station.know(&Place {
        name: "archive",
        location: standin.location("archive"),
        options: user,
        secret: Some(servers::PASSWORD),
        served: None,
        fingerprint: standin.fingerprint.clone(),
        _server: Box::new(()),
    });
}
