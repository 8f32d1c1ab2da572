//! Drives that are connected now, with the label and the UUID by which they are recognised wherever they are mounted.
//!
//! Labels and UUIDs come from the links that the system keeps below `/dev/disk`. Where there are none (a container, a
//! rescue system), they are read from the file system's own superblock, which needs the right to read the device.

use std::collections::HashSet;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};
use std::{fs, io};

use reedhook_core::identity::Ground;
use reedhook_core::path::RelPath;

/// A mounted drive.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Drive {
    /// Its block device.
    pub device: PathBuf,
    /// Where it is mounted.
    pub mount: PathBuf,
    /// The kind of file system.
    pub file_system: String,
    /// The name that a person gave it.
    pub label: Option<String>,
    /// What tells it apart from every other.
    pub uuid: Option<String>,
    /// Why label and UUID could not be read, where that is so.
    pub unread: Option<String>,
}

impl Drive {
    /// The kind of file system, as people call it.
    pub fn kind_in_words(&self) -> String {
        in_words(&self.file_system)
    }

    /// Whether a person who writes `name` means this drive: its label, or its UUID in any case.
    pub fn is_called(&self, name: &str) -> bool {
        self.label.as_deref() == Some(name)
            || self.uuid.as_deref().is_some_and(|uuid| uuid.eq_ignore_ascii_case(name))
    }
}

/// The drives that are mounted now, each once.
///
/// # Errors
/// When the system's table of mounts, or its folders of labels, cannot be read.
pub fn connected() -> io::Result<Vec<Drive>> {
    let table = fs::read(TABLE)?;
    let (labels, uuids) = (links("/dev/disk/by-label")?, links("/dev/disk/by-uuid")?);
    let mut seen = HashSet::new();
    let mut drives = Vec::new();
    for mount in table.split(|byte| *byte == b'\n').filter_map(parse_mount) {
        let device = mount.source.canonicalize().unwrap_or_else(|_| mount.source.clone());
        if !seen.insert(device.clone()) {
            continue;
        }
        let named = |names: &[(PathBuf, String)]| {
            names.iter().find(|(known, _)| *known == device).map(|(_, name)| name.clone())
        };
        let mut unread = None;
        let (label, uuid) = match fs::File::open(&device) {
            _ if !labels.is_empty() || !uuids.is_empty() => (named(&labels), named(&uuids)),
            Ok(device) => names_in(&reader(&device)).unwrap_or_default(),
            Err(error) => {
                unread = Some(error.to_string());
                Names::default()
            }
        };
        let file_system = real_type(&mount);
        drives.push(Drive { device, mount: mount.target, file_system, label, uuid, unread });
    }
    Ok(drives)
}

/// Where a folder is on its file system, whatever mount it is reached through: the device's number, then the path there.
/// Two folders that a bind mount shows in two places have the same. `None` when the system does not tell.
pub fn on_device(folder: &Path) -> Option<PathBuf> {
    let mount = mount_of(folder)?;
    Some(Path::new(&mount.number).join(mount.path_in(folder)?))
}

/// What a folder is on; `None` when the system does not tell.
pub fn ground_of(folder: &Path) -> Option<Ground> {
    Some(mount_of(folder)?.ground())
}

/// What tells apart everything that what a folder can hold depends on: its file system, how that is mounted, and the account.
/// `None` when the system does not tell.
pub fn footing_of(folder: &Path) -> Option<String> {
    let mount = mount_of(folder)?;
    let ground = mount.ground();
    let which = match ground.uuid.or(ground.number) {
        Some(known) => known,
        // Nothing but its place tells one from another that came from the same driver.
        None => format!("{} at {}", ground.source, mount.target.display()),
    };
    let account = rustix::process::geteuid().as_raw();
    Some(format!("{which} {} {} {} {account}", real_type(&mount), mount.options, mount.driver_options))
}

/// The type of the file system that a folder is on, as people call it.
pub fn type_in_words(folder: &Path) -> Option<String> {
    type_of(folder).map(|word| in_words(&word))
}

/// What people call a type of file system.
fn in_words(word: &str) -> String {
    let known = match word {
        "exfat" => "exFAT",
        "ntfs" | "ntfs3" | "ntfs-3g" => "NTFS",
        "vfat" | "msdos" => "FAT",
        "hfs" => "HFS",
        "hfsplus" => "HFS+",
        "apfs" => "APFS",
        "xfs" => "XFS",
        "cifs" | "smb3" => "a share (SMB)",
        "nfs" | "nfs4" => "a share (NFS)",
        "fuse.sshfs" => "a folder over SSH",
        "tmpfs" => "memory",
        other => other,
    };
    known.to_owned()
}

/// Whether a folder is kept by a program that no block device stands behind: the kernel passes it single files to make durable, but
/// not the wish for everything.
pub(crate) fn is_kept_by_a_program(folder: &Path) -> bool {
    mount_of(folder)
        .is_some_and(|mount| mount.file_system.starts_with("fuse") && mount.file_system != "fuseblk")
}

/// The type of the file system that a folder is on.
pub(crate) fn type_of(folder: &Path) -> Option<String> {
    Some(real_type(&mount_of(folder)?))
}

/// The type as the table of mounts calls it; of one behind a driver in user space that of what the driver reads, where the device
/// or the system's device manager tells.
fn real_type(mount: &Mount) -> String {
    if !matches!(mount.file_system.as_str(), "fuseblk" | "fuse") {
        return mount.file_system.clone();
    }
    let number = &mount.number;
    let told = fs::read_to_string(format!("/run/udev/data/b{number}")).ok().and_then(|told| {
        let line = told.lines().find_map(|line| line.strip_prefix("E:ID_FS_TYPE="))?;
        Some(line.to_owned())
    });
    let read = || type_in(&reader(&fs::File::open(&mount.source).ok()?)).map(str::to_owned);
    told.or_else(read).unwrap_or_else(|| mount.file_system.clone())
}

/// The file system that a folder is on, as one word, and the folder's path there.
pub fn place_on(folder: &Path) -> Option<(String, RelPath)> {
    let mount = mount_of(folder)?;
    let path = mount.path_in(folder)?;
    Some((mount.ground().key(), RelPath::new(path.as_os_str().as_bytes()).unwrap_or_default()))
}

/// What tells a folder apart from every other, as far as the system tells: its file system, and the path on it.
pub fn spot_of(folder: &Path) -> Option<String> {
    let mount = mount_of(folder)?;
    Some(format!("{}/{}", mount.ground().key(), mount.path_in(folder)?.display()))
}

/// Where the file system is mounted that a folder is on, and what it is on.
pub(crate) fn mounted_device(folder: &Path) -> Option<(PathBuf, PathBuf)> {
    let mount = mount_of(folder)?;
    Some((mount.target, mount.source))
}

/// Where the file system is mounted that a folder is on.
pub fn mount_point_of(folder: &Path) -> Option<PathBuf> {
    Some(mount_of(folder)?.target)
}

/// Where something is mounted in a folder, sorted: cheap, to see whether that has changed.
///
/// # Errors
/// When the system's table of mounts cannot be read.
pub fn mount_points_in(folder: &Path) -> io::Result<Vec<PathBuf>> {
    let targets = mounts()?.into_iter().map(|mount| mount.target);
    let mut points: Vec<PathBuf> = targets.filter(|target| target.starts_with(folder)).collect();
    points.sort();
    Ok(points)
}

/// The other file systems that are mounted below a folder, with their paths in it. What the kernel makes up is left out, and
/// what comes and goes with programs (the layers of containers, packages).
///
/// # Errors
/// When the system's table of mounts cannot be read.
pub fn mounts_in(folder: &Path) -> io::Result<Vec<(RelPath, Ground)>> {
    let below = |mount: &Mount| {
        let below = mount.target.strip_prefix(folder).ok().filter(|below| !below.as_os_str().is_empty())?;
        RelPath::new(below.as_os_str().as_bytes()).ok()
    };
    let mounts = mounts()?.into_iter().filter(|mount| !mount.is_made_up());
    let mut found: Vec<(RelPath, Ground)> =
        mounts.filter_map(|mount| Some((below(&mount)?, mount.ground()))).collect();
    // Of several mounts on one path the last is the one that shows.
    found.reverse();
    found.sort_by(|a, b| a.0.cmp(&b.0));
    found.dedup_by(|a, b| a.0 == b.0);
    Ok(found)
}

/// The mount through which a folder is reached; `None` when the system does not tell, which is no answer and not "none".
fn mount_of(folder: &Path) -> Option<Mount> {
    // The last mount on a path hides the ones before it.
    let holding = mounts().ok()?.into_iter().filter(|mount| folder.starts_with(&mount.target));
    holding.max_by_key(|mount| mount.target.as_os_str().len())
}

/// The table of what is mounted (proc_pid_mountinfo(5)).
const TABLE: &str = "/proc/self/mountinfo";

fn mounts() -> io::Result<Vec<Mount>> {
    let table = fs::read(TABLE)?;
    Ok(table.split(|byte| *byte == b'\n').filter_map(parse_line).collect())
}

struct Mount {
    /// The device's number, `MAJOR:MINOR`.
    number: String,
    /// What of the file system is mounted.
    root: PathBuf,
    target: PathBuf,
    file_system: String,
    source: PathBuf,
    /// How it is mounted, and what its driver was told.
    options: String,
    driver_options: String,
}

impl Mount {
    /// Where a folder below the mount is on the file system.
    fn path_in(&self, folder: &Path) -> Option<PathBuf> {
        let root = self.root.strip_prefix("/").unwrap_or(&self.root);
        Some(root.join(folder.strip_prefix(&self.target).ok()?))
    }

    fn is_made_up(&self) -> bool {
        const MADE_UP: [&str; 25] = [
            "proc",
            "sysfs",
            "devtmpfs",
            "devpts",
            "cgroup",
            "cgroup2",
            "debugfs",
            "tracefs",
            "securityfs",
            "pstore",
            "bpf",
            "configfs",
            "mqueue",
            "hugetlbfs",
            "binfmt_misc",
            "fusectl",
            "efivarfs",
            "nsfs",
            "autofs",
            "overlay",
            "squashfs",
            "erofs",
            "fuse.portal",
            "fuse.gvfsd-fuse",
            "fuse.snapfuse",
        ];
        MADE_UP.contains(&self.file_system.as_str())
    }

    fn ground(&self) -> Ground {
        let device = self.source.canonicalize().ok().filter(|device| device.starts_with("/dev"));
        let known = device.as_ref().and_then(|device| {
            let names = links("/dev/disk/by-uuid").ok()?;
            names.into_iter().find(|(known, _)| known == device).map(|(_, uuid)| uuid)
        });
        let uuid = known.or_else(|| read_superblock(device.as_ref()?)?.1);
        // These derive the number from their UUID; others from the device's, which changes with the order of plugging in.
        let derived = matches!(self.file_system.as_str(), "ext2" | "ext3" | "ext4" | "btrfs");
        let number = rustix::fs::statvfs(&self.target).ok().filter(|_| derived);
        Ground {
            kind: self.file_system.clone(),
            uuid,
            number: number.map(|found| format!("{:016x}", found.f_fsid)),
            source: self.source.to_string_lossy().into_owned(),
        }
    }
}

/// One line of `/proc/self/mountinfo` (proc_pid_mountinfo(5)).
fn parse_line(line: &[u8]) -> Option<Mount> {
    let fields: Vec<&[u8]> = line.split(|byte| *byte == b' ').collect();
    let separator = fields.iter().position(|field| *field == b"-")?;
    let path = |field: &&[u8]| unescape(field, b"\\", 8, 3);
    let text = |at: usize| Some(String::from_utf8_lossy(fields.get(at)?).into_owned());
    Some(Mount {
        number: text(2)?,
        root: path(fields.get(3)?),
        target: path(fields.get(4)?),
        file_system: text(separator + 1)?,
        source: path(fields.get(separator + 2)?),
        options: text(5)?,
        driver_options: text(separator + 3).unwrap_or_default(),
    })
}

/// A line that mounts the whole of a block device.
fn parse_mount(line: &[u8]) -> Option<Mount> {
    // A folder of a file system that is mounted elsewhere is no drive; a btrfs subvolume stands for its drive.
    parse_line(line).filter(|mount| {
        let whole = mount.root == Path::new("/") || mount.file_system == "btrfs";
        whole && mount.source.starts_with("/dev")
    })
}

/// Replaces `\040` (octal, three digits) or `\x20` (hexadecimal, two) by the bytes they stand for.
fn unescape(text: &[u8], mark: &[u8], radix: u32, digits: usize) -> PathBuf {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text;
    while let Some((&first, tail)) = rest.split_first() {
        let escaped = rest.strip_prefix(mark).and_then(|code| std::str::from_utf8(code.get(..digits)?).ok());
        match escaped.and_then(|code| u8::from_str_radix(code, radix).ok()) {
            Some(byte) => {
                bytes.push(byte);
                rest = &rest[mark.len() + digits..];
            }
            None => {
                bytes.push(first);
                rest = tail;
            }
        }
    }
    PathBuf::from(std::ffi::OsString::from_vec(bytes))
}

/// The links of a folder below `/dev/disk`: the device, and the name. A folder that is not there has none; nor counts a link whose device
/// has gone.
fn links(folder: &str) -> io::Result<Vec<(PathBuf, String)>> {
    let entries = match fs::read_dir(folder) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        entries => entries?,
    };
    let mut links = Vec::new();
    for entry in entries {
        let entry = entry?;
        let name = unescape(entry.file_name().as_bytes(), b"\\x", 16, 2);
        let device = entry.path().canonicalize().ok();
        links.extend(device.map(|device| (device, name.to_string_lossy().into_owned())));
    }
    Ok(links)
}

/// A label and a UUID, as far as they are known.
type Names = (Option<String>, Option<String>);

/// Bytes of a device: so many, from a place on; `None` where it ends before.
type Reader<'a> = &'a dyn Fn(u64, usize) -> Option<Vec<u8>>;

fn read_superblock(device: &Path) -> Option<Names> {
    names_in(&reader(&fs::File::open(device).ok()?))
}

fn reader(device: &fs::File) -> impl Fn(u64, usize) -> Option<Vec<u8>> {
    use std::os::unix::fs::FileExt;
    move |start, length| {
        let mut bytes = vec![0; length];
        device.read_exact_at(&mut bytes, start).ok()?;
        Some(bytes)
    }
}

/// Whether a device has these bytes there.
fn has(at: Reader<'_>, start: u64, bytes: &[u8]) -> bool {
    at(start, bytes.len()).is_some_and(|found| found == bytes)
}

/// The type of a file system that drivers in user space are used for, by its first bytes.
fn type_in(at: Reader<'_>) -> Option<&'static str> {
    if has(at, 3, b"EXFAT   ") {
        return Some("exfat");
    }
    if has(at, 3, b"NTFS    ") {
        return Some("ntfs");
    }
    (has(at, 82, b"FAT32") || has(at, 54, b"FAT")).then_some("vfat")
}

/// The label and UUID of a file system, by the published layouts of ext2–4, XFS, btrfs, HFS+, FAT, exFAT and NTFS.
fn names_in(at: Reader<'_>) -> Option<Names> {
    if has(at, 1080, &[0x53, 0xef]) {
        return Some((label(&at(1144, 16)?), Some(uuid(&at(1128, 16)?))));
    }
    if has(at, 0, b"XFSB") {
        return Some((label(&at(108, 12)?), Some(uuid(&at(32, 16)?))));
    }
    if has(at, 0x10040, b"_BHRfS_M") {
        return Some((label(&at(0x1012b, 256)?), Some(uuid(&at(0x10020, 16)?))));
    }
    if has(at, HFS_PLUS, b"H+") || has(at, HFS_PLUS, b"HX") {
        return Some((hfs_plus_label(at), Some(hfs_plus_uuid(&at(HFS_PLUS + 104, 8)?))));
    }
    match type_in(at)? {
        "exfat" => Some((exfat_label(at), Some(serial(&at(100, 4)?)))),
        "ntfs" => Some((ntfs_label(at), Some(format!("{:016X}", number(at, 72, 8)?)))),
        _ => {
            let (name, volume) = if has(at, 82, b"FAT32") { (71, 67) } else { (43, 39) };
            let name = label(&at(name, 11)?).filter(|name| name != "NO NAME");
            Some((name, Some(serial(&at(volume, 4)?))))
        }
    }
}

/// A little-endian number of a device.
fn number(at: Reader<'_>, start: u64, length: usize) -> Option<u64> {
    Some(at(start, length)?.iter().rev().fold(0, |number, byte| number << 8 | u64::from(*byte)))
}

/// The label is an entry of the root folder (exFAT file system specification, 7.3), looked for in its first cluster.
fn exfat_label(at: Reader<'_>) -> Option<String> {
    const LABEL: u8 = 0x83;
    let (sector, cluster) = (number(at, 108, 1)?, number(at, 109, 1)?);
    let (heap, root) = (number(at, 88, 4)?, number(at, 96, 4)?);
    let start =
        heap.checked_add(root.checked_sub(2)?.checked_shl(cluster as u32)?)?.checked_shl(sector as u32)?;
    let size = 1_u64.checked_shl((sector + cluster) as u32)?.min(64 << 10);
    let entries = at(start, usize::try_from(size).ok()?)?;
    let entry = entries.chunks_exact(32).take_while(|entry| entry[0] != 0).find(|entry| entry[0] == LABEL)?;
    wide(entry.get(2..2 + 2 * usize::from(entry[1].min(11)))?)
}

/// The label is an attribute (0x60) of the file `$Volume`, the fourth record of the table of files.
fn ntfs_label(at: Reader<'_>) -> Option<String> {
    const NAME: u64 = 0x60;
    const END: u64 = 0xffff_ffff;
    const LARGEST: usize = 64 << 10;
    let cluster = number(at, 11, 2)?.checked_mul(number(at, 13, 1)?)?;
    // A negative number is the power of two of the record's bytes.
    let size = match number(at, 64, 1)? as u8 as i8 {
        power @ ..0 => 1_u64.checked_shl(u32::from(power.unsigned_abs()))?,
        clusters => cluster.checked_mul(clusters.unsigned_abs().into())?,
    };
    let start = number(at, 48, 8)?.checked_mul(cluster)?.checked_add(size.checked_mul(3)?)?;
    // Whoever gives us the device may have written anything there: the record is read once, and nothing is looked for beyond it.
    let record = at(start, usize::try_from(size).ok().filter(|size| *size <= LARGEST)?)?;
    let at = |start: u64, length: usize| {
        let start = usize::try_from(start).ok()?;
        Some(record.get(start..start.checked_add(length)?)?.to_vec())
    };
    let at: Reader<'_> = &at;
    let mut start = number(at, 20, 2)?;
    loop {
        match number(at, start, 4)? {
            END => return None,
            NAME => {
                let (length, offset) = (number(at, start + 16, 4)?, number(at, start + 20, 2)?);
                return wide(&at(start + offset, usize::try_from(length.min(256)).ok()?)?);
            }
            _ => start += number(at, start + 4, 4)?.max(8),
        }
    }
}

/// Where the volume header of HFS+ is (Apple's Technical Note 1150).
const HFS_PLUS: u64 = 1024;

/// A big-endian number of a device.
fn big_number(at: Reader<'_>, start: u64, length: usize) -> Option<u64> {
    Some(at(start, length)?.iter().fold(0, |number, byte| number << 8 | u64::from(*byte)))
}

/// The label is the name of the root folder: the first record in the first leaf of the catalog.
fn hfs_plus_label(at: Reader<'_>) -> Option<String> {
    const ROOT_PARENT: u64 = 1;
    let block = big_number(at, HFS_PLUS + 40, 4)?;
    let catalog = big_number(at, HFS_PLUS + 288, 4)?.checked_mul(block)?;
    let (leaf, size) = (big_number(at, catalog.checked_add(24)?, 4)?, big_number(at, catalog + 32, 2)?);
    // Behind the node's descriptor: the length of the key, the number of the folder above, and the name.
    let key = catalog.checked_add(leaf.checked_mul(size)?)?.checked_add(14)?;
    let length = big_number(at, key + 6, 2)?.min(255);
    let name = at(key + 8, usize::try_from(2 * length).ok()?)?;
    let units: Vec<u16> = name.chunks_exact(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]])).collect();
    let name = String::from_utf16_lossy(&units);
    (big_number(at, key + 2, 4)? == ROOT_PARENT && !name.is_empty()).then_some(name)
}

/// The UUID that systems derive from the number of an HFS+ volume: version 3 (RFC 9562), in a name space of Apple's.
fn hfs_plus_uuid(volume: &[u8]) -> String {
    use md5::{Digest, Md5};
    const NAME_SPACE: [u8; 16] =
        [0xb3, 0xe2, 0x0f, 0x39, 0xf2, 0x92, 0x11, 0xd6, 0x97, 0xa4, 0x00, 0x30, 0x65, 0x43, 0xec, 0xac];
    let mut bytes = Md5::new().chain_update(NAME_SPACE).chain_update(volume).finalize();
    bytes[6] = 0x30 | bytes[6] & 0x0f;
    bytes[8] = 0x80 | bytes[8] & 0x3f;
    uuid(&bytes)
}

/// Text in UTF-16.
fn wide(bytes: &[u8]) -> Option<String> {
    let units: Vec<u16> = bytes.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
    Some(String::from_utf16_lossy(&units).trim_end().to_owned()).filter(|text| !text.is_empty())
}

fn label(bytes: &[u8]) -> Option<String> {
    let end = bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len());
    let text = String::from_utf8_lossy(&bytes[..end]).trim_end().to_owned();
    (!text.is_empty()).then_some(text)
}

fn uuid(bytes: &[u8]) -> String {
    let hex: String = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
    format!("{}-{}-{}-{}-{}", &hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..])
}

/// The serial number that stands for a UUID on FAT file systems: `1A2B-3C4D`.
fn serial(bytes: &[u8]) -> String {
    format!("{:02X}{:02X}-{:02X}{:02X}", bytes[3], bytes[2], bytes[1], bytes[0])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mounts_of_whole_devices_are_drives() {
        let parse = |line: &str| parse_mount(line.as_bytes()).map(|mount| (mount.source, mount.target));
        let found =
            parse("42 27 7:0 / /media/FEN\\040FIELD rw,relatime shared:7 - ext4 /dev/loop0 rw").unwrap();
        assert_eq!(found, ("/dev/loop0".into(), "/media/FEN FIELD".into()));
        assert!(parse("43 27 7:0 /sub /srv rw - ext4 /dev/loop0 rw").is_none(), "a bind mount");
        assert!(parse("44 27 0:22 / /proc rw - proc proc rw").is_none());
        assert!(parse("45 27 0:39 /@home /home rw - btrfs /dev/sda2 rw").is_some());
        assert!(parse("").is_none() && parse("1 2 3").is_none());
    }

    #[test]
    fn superblocks_tell_label_and_uuid() {
        let names = |bytes: &[u8]| {
            let at = |start: u64, length: usize| {
                let start = usize::try_from(start).ok()?;
                Some(bytes.get(start..start.checked_add(length)?)?.to_vec())
            };
            names_in(&at)
        };
        let mut ext = vec![0; 4096];
        ext[1080..1082].copy_from_slice(&[0x53, 0xef]);
        ext[1128..1144].copy_from_slice(&(1..17).collect::<Vec<u8>>());
        ext[1144..1152].copy_from_slice(b"FENFIELD");
        let expected = (Some("FENFIELD".to_owned()), Some("01020304-0506-0708-090a-0b0c0d0e0f10".to_owned()));
        assert_eq!(names(&ext), Some(expected));
        let mut fat = vec![0; 512];
        fat[82..87].copy_from_slice(b"FAT32");
        fat[67..71].copy_from_slice(&[0x4d, 0x3c, 0x2b, 0x1a]);
        fat[71..82].copy_from_slice(b"NO NAME    ");
        assert_eq!(names(&fat), Some((None, Some("1A2B-3C4D".to_owned()))));
        // An empty volume: its header, the header of the catalog, and the catalog's only leaf.
        let mut hfs = vec![0; 32 << 10];
        hfs[1024..1028].copy_from_slice(&[b'H', b'+', 0, 4]);
        hfs[1024 + 40..1024 + 44].copy_from_slice(&4096_u32.to_be_bytes());
        hfs[1024 + 104..1024 + 112].copy_from_slice(&[1, 2, 3, 4, 5, 6, 7, 8]);
        hfs[1024 + 288..1024 + 292].copy_from_slice(&2_u32.to_be_bytes());
        hfs[8192 + 24..8192 + 28].copy_from_slice(&1_u32.to_be_bytes());
        hfs[8192 + 32..8192 + 34].copy_from_slice(&4096_u16.to_be_bytes());
        let key =
            [0, 22, 0, 0, 0, 1, 0, 8, 0, b'F', 0, b'E', 0, b'N', 0, b'F', 0, b'I', 0, b'E', 0, b'L', 0, b'D'];
        hfs[12288 + 14..12288 + 14 + key.len()].copy_from_slice(&key);
        let uuid = "6095e009-5132-3fc5-87c2-d5a01745283e".to_owned();
        assert_eq!(names(&hfs), Some((Some("FENFIELD".to_owned()), Some(uuid))));
        assert_eq!(names(&[0; 4096]), None);
        assert_eq!(names(b"XFSB"), None, "a device that ends early");
        // Whatever is on a device: an answer, and soon.
        let mut chance = 1_u64;
        for kind in [b"EXFAT   ", b"NTFS    "] {
            for _ in 0..2000 {
                let mut odd: Vec<u8> = (0..64 << 10)
                    .map(|_| {
                        chance = chance
                            .wrapping_mul(6_364_136_223_846_793_005)
                            .wrapping_add(1_442_695_040_888_963_407);
                        (chance >> 56) as u8 & if chance >> 40 & 1 == 0 { 0 } else { 0xff }
                    })
                    .collect();
                odd[3..11].copy_from_slice(kind);
                odd[82..87].fill(0);
                let _ = names(&odd);
            }
        }
    }

    /// Whatever a device says of itself, and whatever the table of mounts holds.
    #[test]
    fn fuzzed_superblocks_and_tables() {
        let image = |parts: &[(usize, &[u8])]| {
            let mut image = vec![0; 0x10200];
            parts.iter().for_each(|(at, bytes)| image[*at..at + bytes.len()].copy_from_slice(bytes));
            image
        };
        let wide = |length: u16| length.to_be_bytes();
        let seeds = [
            image(&[(1080, &[0x53, 0xef]), (1144, b"FENFIELD-1")]),
            image(&[(0, b"XFSB"), (108, b"FENFIELD-2")]),
            image(&[(0x10040, b"_BHRfS_M"), (0x1012b, b"FENFIELD-3")]),
            image(&[(3, b"EXFAT   "), (510, &[0x55, 0xaa]), (108, &[9]), (109, &[3])]),
            image(&[(3, b"NTFS    "), (11, &[0, 2, 8]), (48, &[4])]),
            image(&[(82, b"FAT32   "), (71, b"FENFIELD  4"), (510, &[0x55, 0xaa])]),
            image(&[
                (1024, b"H+"),
                (1024 + 40, &[0, 0, 16, 0]),
                (1024 + 272 + 16, &[0, 0, 0, 1, 0, 0, 0, 9]),
                (4096 + 32, &wide(4096)),
            ]),
        ];
        let seeds: Vec<&[u8]> = seeds.iter().map(Vec::as_slice).collect();
        reedhook_testing::fuzz("superblocks", &seeds, |bytes| {
            let read = |start: u64, length: usize| {
                let start = usize::try_from(start).ok()?;
                Some(bytes.get(start..start.checked_add(length)?)?.to_vec())
            };
            drop(names_in(&read));
        });
        let table = b"42 27 7:0 / /media/FEN\\040FIELD rw,relatime shared:7 - ext4 /dev/loop0 rw";
        reedhook_testing::fuzz("tables of mounts", &[table], |line| {
            drop((parse_mount(line), parse_line(line)))
        });
    }
}
