//! Over the network: many small files far away, and one large one nearby, against the clients that a system has anyway.
//!
//! The servers are real ones (OpenSSH's and Apache), on loopback; the distance is made by a relay, for both alike.

use std::fs;
use std::net::SocketAddr;
use std::path::Path;
use std::process::Command;
use std::time::Duration;

use reedhook_bench::measure::{Row, Taken, run};
use reedhook_bench::trees;
use reedhook_standins::{Behaviour, Way};

use crate::servers::{self, Server};
use crate::{Bench, program};

const ROUND_TRIP: Duration = Duration::from_millis(20);

fn way_to(server: &Server) -> Way {
    let behaviour = Behaviour { round_trip: ROUND_TRIP, ..Behaviour::default() };
    Way::to(SocketAddr::from(([127, 0, 0, 1], server.port)), &behaviour).expect("a relay")
}

impl Bench {
    /// A store of ours at a port of this machine, with its host or authority known.
    fn know(&self, server: &Server, kind: &str, port: u16) -> String {
        let file = |name: &str| server.file(name).to_str().expect("a plain path").to_owned();
        let (location, more) = if kind == "sshd" {
            (
                format!("sftp://127.0.0.1:{port}{}", server.root().display()),
                vec!["--key".to_owned(), file("key")],
            )
        } else {
            let options = ["--user", servers::USER, "--secret", "env BENCH_SECRET", "--authorities"];
            let options = options.map(str::to_owned).into_iter().chain([file("authority.pem")]).collect();
            let ftp = kind.starts_with("proftpd");
            let location = if ftp {
                format!("ftps://localhost:{port}/")
            } else {
                format!("davs://localhost:{port}/files")
            };
            (location, options)
        };
        let name = format!("{kind}-{port}");
        let mut words = vec!["store", "add", name.as_str(), location.as_str(), "--quiet", "--yes"];
        words.extend(more.iter().map(String::as_str));
        self.reedhook(&words);
        if kind == "sshd" {
            let key = fs::read_to_string(server.file("host_key.pub")).expect("the host's key");
            let hosts = self.path("home/known_hosts");
            let known = fs::read_to_string(&hosts).unwrap_or_default();
            let _ = fs::write(hosts, format!("{known}[127.0.0.1]:{port} {key}"));
        }
        format!("@{name}/ours")
    }

    fn to_server(&self, from: &str, to: &str) -> Taken {
        let mut command = self.command(program(), &["once", "mirror", from, to, "--quiet", "--yes"]);
        run(command.env("BENCH_SECRET", servers::PASSWORD), false)
    }

    fn ssh_tool(&self, program: &str, server: &Server, port: u16, words: &[&str]) -> Taken {
        let (port, key) = (port.to_string(), server.file("key"));
        let mut command =
            self.command(program, &["-q", "-P", &port, "-i", key.to_str().expect("a plain path")]);
        command.args(["-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null"]).args(words);
        run(&mut command, false)
    }

    fn curl(&self, server: &Server, words: &[&str]) -> Taken {
        let account = format!("{}:{}", servers::USER, servers::PASSWORD);
        let authority = server.file("authority.pem");
        let mut command = self.command("curl", &["-sS", "-f", "-u", &account, "--cacert"]);
        command.arg(authority).args(words);
        run(&mut command, false)
    }

    fn clear_served(&self, server: &Server) {
        for side in ["ours", "theirs"] {
            let _ = fs::remove_dir_all(server.root().join(side));
            fs::create_dir(server.root().join(side)).expect("a folder");
            // Apache writes as an account of its own.
            let _ = Command::new("chmod").arg("a+rwx").arg(server.root().join(side)).status();
        }
    }

    /// Many small files, 20 ms away.
    pub fn far(&self) {
        let count = if self.quick { 100 } else { 2_000 };
        let pairs = 1;
        let folder = self.path("far");
        for number in 0..count {
            let file = folder.join(format!("folder-{}/count-{number}.csv", number % 20));
            fs::create_dir_all(file.parent().unwrap_or(&folder)).expect("a folder");
            fs::write(file, format!("heron,{number}\n").repeat(100)).expect("a file");
        }
        // Half of the quick run's time is saying hello.
        let aim = (!self.quick).then_some(0.125);
        if let Some(server) = Server::start_in("sshd", Some(&self.folder)) {
            let way = way_to(&server);
            let to = self.know(&server, "sshd", way.address.port());
            let batch = self.path("batch");
            fs::write(&batch, sftp_batch(&folder, &server.root().join("theirs"))).expect("a batch");
            Row::of(
                format!("{count} small files over SFTP, 20 ms away / one `sftp -b`"),
                aim,
                pairs,
                || self.clear_served(&server),
                || self.ssh_tool("sftp", &server, way.address.port(), &["-b", "batch", "127.0.0.1"]),
                || self.to_server("far", &to),
            );
        }
        if let Some(server) = Server::start_in("apache-tls", Some(&self.folder)) {
            let way = way_to(&server);
            let to = self.know(&server, "apache-tls", way.address.port());
            let base = format!("https://localhost:{}/files/theirs", way.address.port());
            fs::write(self.path("curl.config"), curl_config(&folder, &base)).expect("a file");
            Row::of(
                format!("{count} small files over WebDAV, 20 ms away / one `curl`"),
                aim,
                pairs,
                || self.clear_served(&server),
                || self.curl(&server, &["-K", "curl.config"]),
                || self.to_server("far", &to),
            );
        }
        let _ = fs::remove_dir_all(&folder);
        self.far_and_back();
    }

    /// What was sent is read back over FTP, which has a connection for each file.
    fn far_and_back(&self) {
        let count = if self.quick { 60 } else { 600 };
        let folder = self.path("far");
        for number in 0..count {
            let file = folder.join(format!("folder-{}/count-{number}.csv", number % 20));
            fs::create_dir_all(file.parent().unwrap_or(&folder)).expect("a folder");
            fs::write(file, format!("heron,{number}\n").repeat(100)).expect("a file");
        }
        if let Some(server) = Server::start_in("proftpd-tls", Some(&self.folder)) {
            let way = way_to(&server);
            let to = self.know(&server, "proftpd-tls", way.address.port());
            // What is verified has been sent before, to a folder that stays.
            let kept = to.replace("/ours", "/kept");
            self.reedhook(&["job", "add", "read-back", "mirror", "far", &kept, "--yes", "--quiet"]);
            let with_secret = |words: &[&str]| {
                run(self.command(program(), words).env("BENCH_SECRET", servers::PASSWORD), false)
            };
            with_secret(&["run", "read-back", "--yes", "--quiet"]);
            Row::of(
                format!("{count} small files over FTP with TLS, 20 ms away: verified / sent"),
                (!self.quick).then_some(2.0),
                1,
                || self.clear_served(&server),
                || self.to_server("far", &to),
                || with_secret(&["verify", "read-back", "--quiet"]),
            );
        }
        let _ = fs::remove_dir_all(&folder);
    }

    /// One large file, nearby.
    pub fn net(&self) {
        let mib = if self.quick { 64 } else { 1024 };
        trees::big(&self.path("net"), mib);
        let file =
            fs::read_dir(self.path("net")).expect("a tree").flatten().next().expect("a file").file_name();
        let file = format!("net/{}", file.to_string_lossy());
        // A speed of 0.9 of theirs.
        let aim = (!self.quick).then_some(1.0 / 0.9);
        if let Some(server) = Server::start_in("sshd", Some(&self.folder)) {
            let to = self.know(&server, "sshd", server.port);
            let theirs = format!("127.0.0.1:{}/theirs/", server.root().display());
            Row::of(
                format!("one file of {mib} MiB up over SFTP / `scp`"),
                aim,
                self.pairs(),
                || self.clear_served(&server),
                || self.ssh_tool("scp", &server, server.port, &[&file, &theirs]),
                || self.to_server("net", &to),
            );
            self.to_server("net", &to);
            let from = format!("127.0.0.1:{}/ours/{}", server.root().display(), &file[4..]);
            Row::of(
                format!("one file of {mib} MiB down over SFTP / `scp`"),
                aim,
                self.pairs(),
                || self.clear_local(),
                || self.ssh_tool("scp", &server, server.port, &[&from, "net-theirs/"]),
                || self.to_server(&to, "net-ours"),
            );
        }
        if let Some(server) = Server::start_in("apache-tls", Some(&self.folder)) {
            let to = self.know(&server, "apache-tls", server.port);
            let theirs = format!("https://localhost:{}/files/theirs/", server.port);
            Row::of(
                format!("one file of {mib} MiB up over WebDAV / `curl`"),
                aim,
                self.pairs(),
                || self.clear_served(&server),
                || self.curl(&server, &["-T", &file, &theirs]),
                || self.to_server("net", &to),
            );
            self.to_server("net", &to);
            let from = format!("https://localhost:{}/files/ours/{}", server.port, &file[4..]);
            Row::of(
                format!("one file of {mib} MiB down over WebDAV / `curl`"),
                aim,
                self.pairs(),
                || self.clear_local(),
                || self.curl(&server, &["-o", "net-theirs/file", &from]),
                || self.to_server(&to, "net-ours"),
            );
        }
        self.clear_local();
        let _ = fs::remove_dir_all(self.path("net"));
    }

    fn clear_local(&self) {
        for folder in ["net-ours", "net-theirs"] {
            let _ = fs::remove_dir_all(self.path(folder));
            fs::create_dir(self.path(folder)).expect("a folder");
        }
    }
}

fn sftp_batch(tree: &Path, to: &Path) -> String {
    let mut lines = String::new();
    for folder in fs::read_dir(tree).into_iter().flatten().flatten() {
        let there = to.join(folder.file_name());
        lines.push_str(&format!("mkdir {}\n", there.display()));
        for file in fs::read_dir(folder.path()).into_iter().flatten().flatten() {
            lines.push_str(&format!("put {} {}/\n", file.path().display(), there.display()));
        }
    }
    lines
}

/// One connection that puts file after file. The folders are flat: making them is not counted against it.
fn curl_config(tree: &Path, base: &str) -> String {
    let mut lines = String::new();
    for folder in fs::read_dir(tree).into_iter().flatten().flatten() {
        for file in fs::read_dir(folder.path()).into_iter().flatten().flatten() {
            let name = file.file_name();
            lines.push_str(&format!(
                "upload-file = {}\nurl = {base}/{}\n",
                file.path().display(),
                name.to_string_lossy()
            ));
            lines.push_str("output = /dev/null\n");
        }
    }
    lines
}
