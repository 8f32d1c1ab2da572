//! How others speak with the service: a socket in the state folder that only its owner can open, one request a connection, in JSON,
//! one object a line.

use std::io::{self, BufRead, BufReader, Read, Write};
use std::os::fd::AsRawFd;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::time::Duration;

use serde::{Deserialize, Serialize};
use serde_json::Value;

/// The socket's name in the state folder.
const NAME: &str = "tend.sock";

/// Who asks must say what within this time; and the service must answer.
const PATIENCE: Duration = Duration::from_secs(10);

/// Longer than any request.
const LONGEST: u64 = 64 << 10;

/// What can be asked for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "do", rename_all = "lowercase")]
pub enum Request {
    /// How all jobs are.
    Status,
    /// The service is to end.
    Stop,
    /// A job is to run now.
    Run {
        /// The job.
        job: String,
    },
    /// A job that asks is answered.
    Answer {
        /// The job.
        job: String,
        /// Whether it may run.
        yes: bool,
    },
    /// What runs, waits or is owed.
    Pending,
    /// Job files and settings are to be read anew.
    Reload,
    /// The run of a job is to come to its end.
    Halt {
        /// The job.
        job: String,
    },
    /// Everything that goes on is to be told, for as long as the connection lasts.
    Watch,
}

/// What is answered: lines, of which the last may be a refusal, `{"event":"refused","message":…}`.
pub type Answer = Vec<Value>;

/// Tells somebody what goes on, until the sink takes no more.
pub type Sink<'a> = dyn FnMut(&Value) -> io::Result<()> + 'a;

/// Opens the socket of a state folder for everybody who may; each request is answered from a thread of its own, and so is everybody who
/// looks on: `watch` tells them what goes on until they are gone.
///
/// # Errors
/// When it cannot be made.
pub fn listen(
    state: &Path,
    answer: impl Fn(Request) -> Answer + Send + Sync + Clone + 'static,
    watch: impl Fn(&mut Sink<'_>) -> io::Result<()> + Send + Sync + Clone + 'static,
) -> io::Result<()> {
    let observer = in_folder(state, |path| {
        // The service's lock is held: whoever had this one is gone.
        let _ = std::fs::remove_file(path);
        UnixListener::bind(path)
    })?;
    std::fs::set_permissions(state.join(NAME), std::fs::Permissions::from_mode(0o600))?;
    let serve = move || {
        for stream in observer.incoming().flatten() {
            let (answer, watch) = (answer.clone(), watch.clone());
            let work = move || drop(converse(&stream, &answer, &watch));
            let _ = std::thread::Builder::new().name("talk".to_owned()).stack_size(256 << 10).spawn(work);
        }
    };
    std::thread::Builder::new().name("socket".to_owned()).stack_size(128 << 10).spawn(serve).map(drop)
}

/// Takes the socket away, when the service ends.
pub fn close(state: &Path) {
    let _ = std::fs::remove_file(state.join(NAME));
}

type Watch<'a> = dyn Fn(&mut Sink<'_>) -> io::Result<()> + 'a;

fn converse(stream: &UnixStream, answer: &dyn Fn(Request) -> Answer, watch: &Watch<'_>) -> io::Result<()> {
    stream.set_read_timeout(Some(PATIENCE))?;
    stream.set_write_timeout(Some(PATIENCE))?;
    let mut line = String::new();
    BufReader::new(stream.take(LONGEST)).read_line(&mut line)?;
    let lines = match serde_json::from_str(&line) {
        Ok(Request::Watch) => {
            let mut stream = stream;
            return watch(&mut |line| stream.write_all(format!("{line}\n").as_bytes()));
        }
        Ok(request) => answer(request),
        Err(error) => vec![refusal(&format!("that request is not understood: {error}"))],
    };
    let mut text = String::new();
    lines.iter().for_each(|line| text.push_str(&format!("{line}\n")));
    let mut stream = stream;
    stream.write_all(text.as_bytes())
}

/// A line that says why not.
pub fn refusal(message: &str) -> Value {
    serde_json::json!({"event": "refused", "message": message})
}

/// Asks the service of a state folder; `None` when there is none.
///
/// # Errors
/// When it does not answer.
pub fn ask(state: &Path, request: &Request) -> io::Result<Option<Answer>> {
    let Some(mut stream) = connect(state)? else { return Ok(None) };
    stream.set_read_timeout(Some(PATIENCE))?;
    let mut line = serde_json::to_string(request)?;
    line.push('\n');
    stream.write_all(line.as_bytes())?;
    let lines = BufReader::new(stream).lines();
    let lines = lines.map(|line| Ok(serde_json::from_str(&line?)?));
    lines.collect::<io::Result<Answer>>().map(Some)
}

/// Looks on at what the service of a state folder does: each line is handed on until one is not wanted any more. `None` when there is no
/// service.
///
/// # Errors
/// When the connection breaks.
pub fn look_on(state: &Path, mut each: impl FnMut(Value) -> bool) -> io::Result<Option<()>> {
    let Some(mut stream) = connect(state)? else { return Ok(None) };
    // A service that has nothing to tell says so every few seconds.
    stream.set_read_timeout(Some(PATIENCE))?;
    stream.write_all(format!("{}\n", serde_json::to_string(&Request::Watch)?).as_bytes())?;
    for line in BufReader::new(stream).lines() {
        if !each(serde_json::from_str(&line?)?) {
            break;
        }
    }
    Ok(Some(()))
}

fn connect(state: &Path) -> io::Result<Option<UnixStream>> {
    match in_folder(state, |path| UnixStream::connect(path)) {
        Err(error) if matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::ConnectionRefused) => {
            Ok(None)
        }
        stream => stream.map(Some),
    }
}

/// A socket's path may have 107 bytes. The folder is opened, so that its own path may be as long as it likes.
fn in_folder<T>(state: &Path, act: impl FnOnce(&PathBuf) -> io::Result<T>) -> io::Result<T> {
    let folder = std::fs::File::open(state)?;
    act(&PathBuf::from(format!("/proc/self/fd/{}/{NAME}", folder.as_raw_fd())))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn questions_are_answered_from_a_folder_with_a_long_name_too() {
        let folder = tempfile::tempdir().unwrap();
        let state = folder.path().join("long".repeat(60)).join("state");
        std::fs::create_dir_all(&state).unwrap();
        assert!(ask(&state, &Request::Status).unwrap().is_none(), "there is none");
        let answer = |request| match request {
            Request::Run { job } => vec![serde_json::json!({"event": "taken", "job": job})],
            _ => vec![refusal("no")],
        };
        let watch =
            |sink: &mut Sink<'_>| (0..).try_for_each(|number| sink(&serde_json::json!({"number": number})));
        listen(&state, answer, watch).unwrap();
        let mut seen = 0;
        let looked = look_on(&state, |line| {
            seen += 1;
            line["number"] != 99
        });
        assert_eq!((looked.unwrap(), seen), (Some(()), 100));
        let mode = std::fs::metadata(state.join(NAME)).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
        let lines = ask(&state, &Request::Run { job: "counts".to_owned() }).unwrap().unwrap();
        assert_eq!(lines[0]["job"], "counts");
        for nonsense in ["\n", "{\"do\":\"dance\"}\n", "{\"do\":\"run\"}\n", "\u{0}\n"] {
            let mut stream = in_folder(&state, |path| UnixStream::connect(path)).unwrap();
            stream.write_all(nonsense.as_bytes()).unwrap();
            let mut answer = String::new();
            stream.read_to_string(&mut answer).unwrap();
            assert!(answer.contains("refused"), "{nonsense:?}: {answer}");
        }
        close(&state);
        assert!(ask(&state, &Request::Status).unwrap().is_none());
    }

    #[test]
    fn fuzzed_requests() {
        let seeds: [&[u8]; 3] = [
            br#"{"do":"run","job":"counts"}"#,
            br#"{"do":"answer","job":"c","yes":true}"#,
            br#"{"do":"status"}"#,
        ];
        reedhook_testing::fuzz("requests", &seeds, |bytes| drop(serde_json::from_slice::<Request>(bytes)));
    }
}
