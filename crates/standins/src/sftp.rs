//! The SFTP stand-in. Names that are not UTF-8 are not shown by it.

use std::collections::HashMap;
use std::fs::{self, File, OpenOptions, Permissions};
use std::io::ErrorKind;
use std::os::unix::fs::{FileExt, MetadataExt, PermissionsExt};
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use russh::keys::{Algorithm, HashAlg, PrivateKey};
use russh::server::{Auth, Config, Handler, Msg, Session};
use russh::{Channel, ChannelId, MethodKind, MethodSet};
use russh_sftp::protocol::{
    Attrs, Data, File as Named, FileAttributes, Handle, Name, OpenFlags, Packet, Status, StatusCode, Version,
};
use tokio::net::TcpListener;

use crate::settings::{Settings, StartError};
use crate::web::used;

struct Shared {
    folder: PathBuf,
    user: String,
    secret: String,
    quota: Option<u64>,
    clock: i64,
    links_first: bool,
}

/// Starts it; returns the fingerprint of its key, which is kept beside the folder and so stays the same.
pub(crate) fn spawn(listener: TcpListener, settings: &Settings) -> Result<String, StartError> {
    let key = host_key(&settings.folder)?;
    let fingerprint = key.public_key().fingerprint(HashAlg::Sha256).to_string();
    let config = Arc::new(Config {
        keys: vec![key],
        methods: MethodSet::from([MethodKind::Password].as_slice()),
        auth_rejection_time: Duration::from_millis(100),
        auth_rejection_time_initial: Some(Duration::ZERO),
        window_size: 16 << 20,
        nodelay: true,
        ..Config::default()
    });
    let shared = Arc::new(Shared {
        folder: fs::canonicalize(&settings.folder)?,
        user: settings.user.clone(),
        secret: settings.secret.clone(),
        quota: settings.behaviour.quota,
        clock: settings.behaviour.clock,
        links_first: settings.behaviour.links_first,
    });
    tokio::spawn(async move {
        loop {
            let Ok((stream, _)) = listener.accept().await else { continue };
            let connection = Connection { shared: shared.clone(), channels: HashMap::new() };
            let config = config.clone();
            tokio::spawn(async move {
                if let Ok(session) = russh::server::run_stream(config, stream, connection).await {
                    let _ = session.await;
                }
            });
        }
    });
    Ok(fingerprint)
}

fn host_key(folder: &Path) -> Result<PrivateKey, StartError> {
    let failed = |error: russh::keys::ssh_key::Error| StartError::Server(error.to_string());
    let name = format!(".{}.standin-key", folder.file_name().unwrap_or_default().to_string_lossy());
    let file = folder.with_file_name(name);
    if let Ok(text) = fs::read_to_string(&file) {
        return PrivateKey::from_openssh(text).map_err(failed);
    }
    let key = PrivateKey::random(&mut russh::keys::key::safe_rng(), Algorithm::Ed25519).map_err(failed)?;
    let text = key.to_openssh(russh::keys::ssh_key::LineEnding::LF).map_err(failed)?;
    fs::write(&file, text.as_bytes())?;
    fs::set_permissions(&file, Permissions::from_mode(0o600))?;
    Ok(key)
}

struct Connection {
    shared: Arc<Shared>,
    channels: HashMap<ChannelId, Channel<Msg>>,
}

impl Handler for Connection {
    type Error = russh::Error;

    async fn auth_password(&mut self, user: &str, password: &str) -> Result<Auth, russh::Error> {
        let right = user == self.shared.user && password == self.shared.secret;
        Ok(if right { Auth::Accept } else { Auth::reject() })
    }

    async fn channel_open_session(
        &mut self,
        channel: Channel<Msg>,
        reply: russh::server::ChannelOpenHandle,
        _session: &mut Session,
    ) -> Result<(), russh::Error> {
        self.channels.insert(channel.id(), channel);
        reply.accept().await;
        Ok(())
    }

    async fn subsystem_request(
        &mut self,
        id: ChannelId,
        name: &str,
        session: &mut Session,
    ) -> Result<(), russh::Error> {
        match self.channels.remove(&id).filter(|_| name == "sftp") {
            Some(channel) => {
                session.channel_success(id)?;
                let files = Files { shared: self.shared.clone(), open: HashMap::new(), next: 0 };
                russh_sftp::server::run(channel.into_stream(), files).await;
            }
            None => session.channel_failure(id)?,
        }
        Ok(())
    }
}

enum Open {
    File(File),
    /// The names that have not been told yet.
    Folder(Vec<Named>),
}

struct Files {
    shared: Arc<Shared>,
    open: HashMap<String, Open>,
    next: u64,
}

fn ok(id: u32) -> Status {
    Status { id, status_code: StatusCode::Ok, error_message: "Ok".to_owned(), language_tag: "en".to_owned() }
}

fn told(error: std::io::Error) -> StatusCode {
    match error.kind() {
        ErrorKind::NotFound | ErrorKind::NotADirectory => StatusCode::NoSuchFile,
        ErrorKind::PermissionDenied => StatusCode::PermissionDenied,
        ErrorKind::InvalidFilename => StatusCode::BadMessage,
        _ => StatusCode::Failure,
    }
}

impl Files {
    /// The file behind a path; nothing leads out of the folder.
    fn file(&self, path: &str) -> PathBuf {
        let mut found = self.shared.folder.clone();
        for part in Path::new(path).components() {
            match part {
                Component::Normal(name) => found.push(name),
                Component::ParentDir if found != self.shared.folder => {
                    found.pop();
                }
                _ => {}
            }
        }
        found
    }

    fn inside(&self, file: &Path) -> String {
        let below = file.strip_prefix(&self.shared.folder).unwrap_or(Path::new(""));
        format!("/{}", below.to_string_lossy())
    }

    fn handle(&mut self, id: u32, open: Open) -> Handle {
        self.next += 1;
        let handle = self.next.to_string();
        self.open.insert(handle.clone(), open);
        Handle { id, handle }
    }

    fn opened(&self, handle: &str) -> Result<&File, StatusCode> {
        match self.open.get(handle) {
            Some(Open::File(file)) => Ok(file),
            _ => Err(StatusCode::Failure),
        }
    }

    fn adjust(&self, file: &Path, attributes: &FileAttributes) -> std::io::Result<()> {
        if let Some(size) = attributes.size {
            OpenOptions::new().write(true).open(file)?.set_len(size)?;
        }
        if let Some(mode) = attributes.permissions {
            fs::set_permissions(file, Permissions::from_mode(mode & 0o7777))?;
        }
        if let Some(modified) = attributes.mtime {
            let time = UNIX_EPOCH + Duration::from_secs(u64::from(modified));
            File::open(file)?.set_modified(time)?;
        }
        Ok(())
    }

    fn wrong_time(&self, file: &File) {
        let off = Duration::from_secs(self.shared.clock.unsigned_abs());
        let now = SystemTime::now();
        let time = if self.shared.clock > 0 { now + off } else { now - off };
        if self.shared.clock != 0 {
            let _ = file.set_modified(time);
        }
    }
}

fn attributes(meta: &fs::Metadata) -> FileAttributes {
    let mut found = FileAttributes::empty();
    found.size = Some(meta.len());
    found.permissions = Some(meta.mode());
    found.mtime = u32::try_from(meta.mtime()).ok();
    found.atime = u32::try_from(meta.atime()).ok();
    found
}

/// Two strings in a row, as the extensions for renames and second names have them.
fn two_names(data: &[u8]) -> Option<(String, String)> {
    let take = |data: &[u8]| -> Option<(String, usize)> {
        let length = u32::from_be_bytes(*data.first_chunk::<4>()?) as usize;
        let text = data.get(4..4 + length)?;
        Some((String::from_utf8(text.to_vec()).ok()?, 4 + length))
    };
    let (first, used) = take(data)?;
    Some((first, take(&data[used..])?.0))
}

impl russh_sftp::server::Handler for Files {
    type Error = StatusCode;

    fn unimplemented(&self) -> StatusCode {
        StatusCode::OpUnsupported
    }

    async fn init(&mut self, _version: u32, _: HashMap<String, String>) -> Result<Version, StatusCode> {
        let mut version = Version::new();
        for extension in ["posix-rename@openssh.com", "hardlink@openssh.com"] {
            version.extensions.insert(extension.to_owned(), "1".to_owned());
        }
        Ok(version)
    }

    async fn open(
        &mut self,
        id: u32,
        path: String,
        flags: OpenFlags,
        wanted: FileAttributes,
    ) -> Result<Handle, StatusCode> {
        let path = self.file(&path);
        let has = |flag| flags.contains(flag);
        let mut options = OpenOptions::new();
        options.read(has(OpenFlags::READ)).write(has(OpenFlags::WRITE)).truncate(has(OpenFlags::TRUNCATE));
        match has(OpenFlags::EXCLUDE) {
            true => options.create_new(has(OpenFlags::CREATE)),
            false => options.create(has(OpenFlags::CREATE)),
        };
        let file = options.open(&path).map_err(told)?;
        if let Some(mode) = wanted.permissions.filter(|_| has(OpenFlags::CREATE)) {
            let _ = file.set_permissions(Permissions::from_mode(mode & 0o7777));
        }
        if has(OpenFlags::WRITE) {
            self.wrong_time(&file);
        }
        Ok(self.handle(id, Open::File(file)))
    }

    async fn close(&mut self, id: u32, handle: String) -> Result<Status, StatusCode> {
        self.open.remove(&handle).map(|_| ok(id)).ok_or(StatusCode::Failure)
    }

    async fn read(&mut self, id: u32, handle: String, offset: u64, length: u32) -> Result<Data, StatusCode> {
        let mut data = vec![0; length.min(256 << 10) as usize];
        let read = self.opened(&handle)?.read_at(&mut data, offset).map_err(told)?;
        data.truncate(read);
        if data.is_empty() { Err(StatusCode::Eof) } else { Ok(Data { id, data }) }
    }

    async fn write(
        &mut self,
        id: u32,
        handle: String,
        offset: u64,
        data: Vec<u8>,
    ) -> Result<Status, StatusCode> {
        if self.shared.quota.is_some_and(|quota| used(&self.shared.folder) + data.len() as u64 > quota) {
            return Err(StatusCode::Failure);
        }
        let file = self.opened(&handle)?;
        file.write_all_at(&data, offset).map_err(told)?;
        self.wrong_time(file);
        Ok(ok(id))
    }

    async fn lstat(&mut self, id: u32, path: String) -> Result<Attrs, StatusCode> {
        let meta = fs::symlink_metadata(self.file(&path)).map_err(told)?;
        Ok(Attrs { id, attrs: attributes(&meta) })
    }

    async fn stat(&mut self, id: u32, path: String) -> Result<Attrs, StatusCode> {
        self.lstat(id, path).await
    }

    async fn fstat(&mut self, id: u32, handle: String) -> Result<Attrs, StatusCode> {
        let meta = self.opened(&handle)?.metadata().map_err(told)?;
        Ok(Attrs { id, attrs: attributes(&meta) })
    }

    async fn setstat(&mut self, id: u32, path: String, wanted: FileAttributes) -> Result<Status, StatusCode> {
        self.adjust(&self.file(&path), &wanted).map(|()| ok(id)).map_err(told)
    }

    async fn fsetstat(
        &mut self,
        id: u32,
        handle: String,
        wanted: FileAttributes,
    ) -> Result<Status, StatusCode> {
        let file = self.opened(&handle)?;
        let set = || {
            if let Some(size) = wanted.size {
                file.set_len(size)?;
            }
            if let Some(mode) = wanted.permissions {
                file.set_permissions(Permissions::from_mode(mode & 0o7777))?;
            }
            match wanted.mtime {
                Some(modified) => file.set_modified(UNIX_EPOCH + Duration::from_secs(u64::from(modified))),
                None => Ok(()),
            }
        };
        set().map(|()| ok(id)).map_err(told)
    }

    async fn opendir(&mut self, id: u32, path: String) -> Result<Handle, StatusCode> {
        let mut names = Vec::new();
        for entry in fs::read_dir(self.file(&path)).map_err(told)? {
            let entry = entry.map_err(told)?;
            let (Ok(name), Ok(meta)) = (entry.file_name().into_string(), entry.metadata()) else { continue };
            names.push(Named::new(name, attributes(&meta)));
        }
        Ok(self.handle(id, Open::Folder(names)))
    }

    async fn readdir(&mut self, id: u32, handle: String) -> Result<Name, StatusCode> {
        match self.open.get_mut(&handle) {
            Some(Open::Folder(names)) if !names.is_empty() => {
                let rest = names.len().saturating_sub(100);
                Ok(Name { id, files: names.split_off(rest) })
            }
            Some(Open::Folder(_)) => Err(StatusCode::Eof),
            _ => Err(StatusCode::Failure),
        }
    }

    async fn remove(&mut self, id: u32, path: String) -> Result<Status, StatusCode> {
        fs::remove_file(self.file(&path)).map(|()| ok(id)).map_err(told)
    }

    async fn mkdir(&mut self, id: u32, path: String, wanted: FileAttributes) -> Result<Status, StatusCode> {
        let path = self.file(&path);
        fs::create_dir(&path).map_err(told)?;
        let _ = self.adjust(&path, &wanted);
        Ok(ok(id))
    }

    async fn rmdir(&mut self, id: u32, path: String) -> Result<Status, StatusCode> {
        fs::remove_dir(self.file(&path)).map(|()| ok(id)).map_err(told)
    }

    async fn realpath(&mut self, id: u32, path: String) -> Result<Name, StatusCode> {
        let found = self.inside(&self.file(&path));
        Ok(Name { id, files: vec![Named::dummy(found)] })
    }

    async fn rename(&mut self, id: u32, old: String, new: String) -> Result<Status, StatusCode> {
        let (old, new) = (self.file(&old), self.file(&new));
        if fs::symlink_metadata(&new).is_ok() {
            return Err(StatusCode::Failure);
        }
        fs::rename(old, new).map(|()| ok(id)).map_err(told)
    }

    async fn readlink(&mut self, id: u32, path: String) -> Result<Name, StatusCode> {
        let target = fs::read_link(self.file(&path)).map_err(told)?;
        Ok(Name { id, files: vec![Named::dummy(target.to_string_lossy().into_owned())] })
    }

    async fn symlink(&mut self, id: u32, target: String, path: String) -> Result<Status, StatusCode> {
        let (target, path) = if self.shared.links_first { (path, target) } else { (target, path) };
        std::os::unix::fs::symlink(target, self.file(&path)).map(|()| ok(id)).map_err(told)
    }

    async fn extended(&mut self, id: u32, request: String, data: Vec<u8>) -> Result<Packet, StatusCode> {
        let (old, new) = two_names(&data).ok_or(StatusCode::BadMessage)?;
        let (old, new) = (self.file(&old), self.file(&new));
        let done = match request.as_str() {
            "posix-rename@openssh.com" => fs::rename(old, new),
            "hardlink@openssh.com" => fs::hard_link(old, new),
            _ => return Err(StatusCode::OpUnsupported),
        };
        done.map(|()| Packet::Status(ok(id))).map_err(told)
    }
}
