//! What each kind of file system can hold, by its type: nothing is tried, so a preview leaves no trace.
//!
//! The kernel's `statfs` tells the type by a number, but everything behind FUSE has the same one. What is behind it is told by the
//! table of mounts, and where that says no more than "a block device" by the file system's own superblock. Where nothing tells,
//! the poorest is assumed: what is not asked for cannot be lost, and what is kept unasked does no harm.

use std::path::Path;
use std::time::Duration;

use reedhook_core::store::{Folding, Limits, NameRule};

/// Magic numbers of statfs(2).
const MSDOS: u32 = 0x4d44;
const EXFAT: u32 = 0x2011_bab0;
const HFS_PLUS: u32 = 0x482b;
const CIFS: u32 = 0xff53_4d42;
const SMB2: u32 = 0xfe53_4d42;
const NTFS3: u32 = 0x7366_746e;
const EXT: u32 = 0xef53;
const XFS: u32 = 0x5846_5342;
const FUSE: u32 = 0x6573_5546;

/// Whether a type is that of everything behind FUSE.
pub(super) fn is_fuse(magic: u32) -> bool {
    magic == FUSE
}

/// Whether a type gives what an account makes to that account. Shares and drives that are mounted for somebody give everything to them, and
/// servers may take root for nobody: there an owner tells nothing.
pub(super) fn keeps_owners(magic: u32) -> bool {
    // Besides those above: btrfs, tmpfs, f2fs, overlayfs, ZFS, bcachefs, by linux/magic.h and their own sources.
    [EXT, XFS, 0x9123_683e, 0x0102_1994, 0xf2f5_2010, 0x794c_7630, 0x2fc1_2fc1, 0xca45_1a4e].contains(&magic)
}

/// A kind of file system, as far as it matters what it can hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    /// Everything of POSIX: btrfs, memory, NFS.
    Posix,
    Ext,
    Xfs,
    Fat,
    ExFat,
    /// The driver in user space keeps whole seconds.
    ExFatInUserSpace,
    HfsPlus,
    /// A share of another machine: SMB.
    Share,
    /// Windows' own, by the kernel's driver.
    Ntfs,
    /// Windows' own, by the driver in user space: names and links as POSIX has them, and no modes unless it was mounted with a
    /// map of accounts.
    NtfsInUserSpace,
    /// A folder of another machine over SSH.
    OverSsh,
    /// Behind FUSE, and nothing tells what.
    Unknown,
}

/// What a kind holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Holds {
    pub(super) step: Duration,
    pub(super) modes: bool,
    pub(super) links: bool,
    pub(super) link_times: bool,
    pub(super) holes: bool,
    pub(super) folding: Folding,
    pub(super) full: bool,
    pub(super) names: NameRule,
    pub(super) limits: Limits,
}

/// Seconds since 1970 of 1980-01-01 and of the end of 2107, in UTC: the years that FAT and exFAT have room for.
pub(super) const DOS_TIMES: (i64, i64) = (315_532_800, 4_354_819_199);

impl Holds {
    /// All that there is to be held.
    fn all() -> Holds {
        Holds {
            step: Duration::from_nanos(1),
            modes: true,
            links: true,
            link_times: true,
            holes: true,
            folding: Folding::NONE,
            full: true,
            names: NameRule::BYTES,
            limits: Limits::default(),
        }
    }

    /// Names, content and times.
    fn plain() -> Holds {
        let all = Holds::all();
        Holds { modes: false, links: false, link_times: false, holes: false, full: false, ..all }
    }
}

impl Kind {
    /// The kind of what a folder is on, given its `statfs` number.
    pub(super) fn of(magic: u32, folder: &Path) -> Kind {
        match magic {
            EXT => Kind::Ext,
            XFS => Kind::Xfs,
            MSDOS => Kind::Fat,
            EXFAT => Kind::ExFat,
            HFS_PLUS => Kind::HfsPlus,
            CIFS | SMB2 => Kind::Share,
            NTFS3 => Kind::Ntfs,
            FUSE => Kind::behind_fuse(crate::drives::type_of(folder).as_deref()),
            _ => Kind::Posix,
        }
    }

    /// By the word of the table of mounts, or of the superblock.
    fn behind_fuse(word: Option<&str>) -> Kind {
        match word {
            Some("exfat") => Kind::ExFatInUserSpace,
            Some("ntfs") => Kind::NtfsInUserSpace,
            Some("vfat" | "fuse.vfat") => Kind::Fat,
            Some("fuse.sshfs") => Kind::OverSsh,
            // A folder of the machine that this one is simulated on.
            Some("virtiofs") => Kind::Posix,
            _ => Kind::Unknown,
        }
    }

    /// What it holds.
    pub(super) fn holds(self) -> Holds {
        let (all, plain) = (Holds::all(), Holds::plain());
        let dos = Limits { times: Some(DOS_TIMES), utf16_names: true, ..Limits::default() };
        let until = |last| Holds {
            limits: Limits { times: Some((i64::from(i32::MIN), last)), ..Limits::default() },
            ..all
        };
        match self {
            Kind::Posix => all,
            // From December 1901, in 34 bits to 2446 and in the larger count of XFS to 2486. Older layouts end in 2038.
            Kind::Ext => until(15_032_385_535),
            Kind::Xfs => until(16_299_260_424),
            Kind::Fat => Holds {
                step: Duration::from_secs(2),
                folding: Folding::CASE,
                names: NameRule::DOS,
                limits: Limits { file_size: Some(u64::from(u32::MAX)), local_time: true, ..dos },
                ..plain
            },
            Kind::ExFat => Holds {
                step: Duration::from_millis(10),
                folding: Folding::CASE,
                names: NameRule::DOS,
                limits: dos,
                ..plain
            },
            Kind::ExFatInUserSpace => Holds { step: Duration::from_secs(1), ..Kind::ExFat.holds() },
            Kind::HfsPlus => Holds {
                step: Duration::from_secs(1),
                holes: false,
                folding: Folding::CASE,
                // 1904 to February 2040.
                limits: Limits {
                    times: Some((-2_082_844_800, 2_212_122_495)),
                    utf16_names: true,
                    ..Limits::default()
                },
                ..all
            },
            Kind::Share => {
                Holds { step: Duration::from_nanos(100), folding: Folding::CASE, holes: true, ..plain }
            }
            Kind::Ntfs => Holds { step: Duration::from_nanos(100), ..all },
            Kind::NtfsInUserSpace => Holds {
                step: Duration::from_nanos(100),
                links: true,
                link_times: true,
                holes: true,
                names: NameRule::TEXT,
                limits: Limits { utf16_names: true, ..Limits::default() },
                ..plain
            },
            Kind::OverSsh => Holds { step: Duration::from_secs(1), link_times: false, full: false, ..all },
            Kind::Unknown => Holds { step: Duration::from_secs(2), ..plain },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_unknown_holds_least() {
        let kinds = [None, Some("fuse.somebodys"), Some("fuseblk")].map(Kind::behind_fuse);
        assert_eq!(kinds, [Kind::Unknown; 3]);
        let least = Kind::Unknown.holds();
        for kind in [Kind::Posix, Kind::Fat, Kind::ExFatInUserSpace, Kind::NtfsInUserSpace, Kind::OverSsh] {
            let holds = kind.holds();
            assert!(least.step >= holds.step && !least.modes && !least.links && !least.full, "{kind:?}");
        }
    }
}
