//! How others speak with the service: a socket in the state folder that only its owner can open, one request a connection, in JSON,
//! one object a line.

use std::fmt;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::os::fd::AsRawFd;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::time::Duration;

use serde::Serialize;
use serde_json::Value;

use crate::protocol::{Request, Told, VERSION, Versioned, refusal};

/// The socket's name in the state folder.
const NAME: &str = "tend.sock";

/// Who asks must say what within this time; and the service must answer.
const PATIENCE: Duration = Duration::from_secs(10);

/// Longer than any request.
const LONGEST: u64 = 64 << 10;

/// What is answered, in lines.
pub type Answer = Vec<Told>;

/// Tells somebody what goes on, until the sink takes no more.
pub type Sink<'a> = dyn FnMut(&Told) -> io::Result<()> + 'a;

/// Why the service gave no answer.
#[derive(Debug)]
pub enum AskError {
    /// The connection failed, or nothing came in time.
    Connection(io::Error),
    /// It says something that cannot be read.
    Garbled(serde_json::Error),
    /// It is of another version of this program.
    OtherVersion,
}

impl fmt::Display for AskError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            AskError::Connection(error) => write!(f, "the service does not answer: {error}"),
            AskError::Garbled(error) => write!(f, "the service's answer cannot be read: {error}"),
            AskError::OtherVersion => f.write_str(
                "the service is of another version of Reedhook; end it (reedhook tend stop) and start it anew",
            ),
        }
    }
}

impl std::error::Error for AskError {
    fn source(&self) -> Option<&(dyn std::error::Error + 'static)> {
        match self {
            AskError::Connection(error) => Some(error),
            AskError::Garbled(error) => Some(error),
            AskError::OtherVersion => None,
        }
    }
}

impl From<io::Error> for AskError {
    fn from(error: io::Error) -> AskError {
        AskError::Connection(error)
    }
}

impl From<serde_json::Error> for AskError {
    fn from(error: serde_json::Error) -> AskError {
        AskError::Garbled(error)
    }
}

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
    let listener = in_folder(state, |path| {
        // The service's lock is held: whoever had this one is gone.
        let _ = std::fs::remove_file(path);
        UnixListener::bind(path)
    })?;
    std::fs::set_permissions(state.join(NAME), std::fs::Permissions::from_mode(0o600))?;
    let serve = move || {
        for stream in listener.incoming().flatten() {
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
    let told = match serde_json::from_str::<Versioned<Request>>(&line) {
        Ok(Versioned { said: Request::Watch, .. }) => {
            let (mut stream, mut first) = (stream, true);
            return watch(&mut |told| {
                let text = in_a_line(told, std::mem::take(&mut first))?;
                stream.write_all(text.as_bytes())
            });
        }
        Ok(Versioned { v: Some(v), said: Request::Stop }) if v != VERSION => answer(Request::Stop),
        Ok(Versioned { v: Some(v), .. }) if v > VERSION => {
            vec![refusal("this service is of an older version of Reedhook: end it and start it anew")]
        }
        Ok(Versioned { said: request, .. }) => answer(request),
        Err(error) => vec![refusal(format!("that request is not understood: {error}"))],
    };
    let mut text = String::new();
    for (at, told) in told.iter().enumerate() {
        text.push_str(&in_a_line(told, at == 0)?);
    }
    let mut stream = stream;
    stream.write_all(text.as_bytes())
}

/// A line with its end; the first of a conversation bears the version.
fn in_a_line<T: Serialize>(said: T, first: bool) -> io::Result<String> {
    let v = first.then_some(VERSION);
    Ok(format!("{}\n", serde_json::to_string(&Versioned { v, said })?))
}

/// Asks the service of a state folder; `None` when there is none.
///
/// # Errors
/// When it does not answer, or not in words of this version.
pub fn ask(state: &Path, request: &Request) -> Result<Option<Answer>, AskError> {
    let mut told = Vec::new();
    let answered = converse_with(state, request, |line| {
        told.push(line);
        true
    })?;
    Ok(answered.map(|()| told))
}

/// Looks on at what the service of a state folder does: each line is handed on until one is not wanted any more. `None` when there is no
/// service.
///
/// # Errors
/// When the connection breaks.
pub fn look_on(state: &Path, each: impl FnMut(Told) -> bool) -> Result<Option<()>, AskError> {
    // A service that has nothing to tell says so every few seconds.
    converse_with(state, &Request::Watch, each)
}

fn converse_with(
    state: &Path,
    request: &Request,
    mut each: impl FnMut(Told) -> bool,
) -> Result<Option<()>, AskError> {
    let Some(mut stream) = connect(state)? else { return Ok(None) };
    stream.set_read_timeout(Some(PATIENCE))?;
    stream.write_all(in_a_line(request, true)?.as_bytes())?;
    for (at, line) in BufReader::new(stream).lines().enumerate() {
        let line = line?;
        if at == 0 && serde_json::from_str::<Versioned<Value>>(&line)?.v != Some(VERSION) {
            return Err(AskError::OtherVersion);
        }
        let Versioned { said, .. } = serde_json::from_str(&line)?;
        if !each(said) {
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
            Request::Run { job } => vec![Told::Taken { job: Some(job) }],
            _ => vec![refusal("no")],
        };
        let numbered = |number: u32| Told::Note { job: None, message: number.to_string(), at: String::new() };
        let watch = move |sink: &mut Sink<'_>| (0..).try_for_each(|number| sink(&numbered(number)));
        listen(&state, answer, watch).unwrap();
        let mut seen = 0;
        let looked = look_on(&state, |line| {
            seen += 1;
            line != numbered(99)
        });
        assert_eq!((looked.unwrap(), seen), (Some(()), 100));
        let mode = std::fs::metadata(state.join(NAME)).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
        let lines = ask(&state, &Request::Run { job: "counts".to_owned() }).unwrap().unwrap();
        assert_eq!(lines, [Told::Taken { job: Some("counts".to_owned()) }]);
        // Whoever speaks another version is told so, in words that any version can read.
        let mut stream = in_folder(&state, |path| UnixStream::connect(path)).unwrap();
        stream.write_all(b"{\"v\":2,\"do\":\"status\"}\n").unwrap();
        let mut answer = String::new();
        stream.read_to_string(&mut answer).unwrap();
        assert!(answer.contains("older version"), "{answer}");
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
}
