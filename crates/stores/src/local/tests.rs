//! The local store against the conformance suite, and what only a local store can get wrong.

use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};

use reedhook_core::entry::{EntryKind, Meta, Stamp};
use reedhook_core::path::RelPath;
use reedhook_core::store::{Attributes, Expect, FaultKind, Flow, Publish, Result, Store, StoreExt};
use reedhook_testing::{adjust, conformance, get, names, path, put};

use super::*;

fn store() -> (tempfile::TempDir, LocalStore) {
    let folder = tempfile::tempdir().unwrap();
    let store = LocalStore::open(folder.path()).unwrap();
    (folder, store)
}

#[test]
fn conforms() {
    let (_folder, store) = store();
    conformance(&store);
}

#[test]
fn names_that_are_not_utf8_are_kept() {
    let (folder, store) = store();
    let odd = RelPath::new(b"\xff\xfe.csv").unwrap();
    let stage = store.stage(&odd, None).unwrap();
    let sealed = stage.seal(&Attributes::default()).unwrap();
    store.publish(sealed, &Publish { expect: Expect::Absent, keep_as: None }).unwrap();
    assert_eq!(store.list(&RelPath::root()).unwrap().entries[0].name.as_bytes(), b"\xff\xfe.csv");
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1);
}

#[test]
fn a_link_on_the_way_is_never_followed() {
    let outside = tempfile::tempdir().unwrap();
    let (folder, store) = store();
    symlink(outside.path(), folder.path().join("way")).unwrap();
    let kind = |outcome: Result<()>| outcome.unwrap_err().kind;
    let through = path("way/file");
    assert_eq!(kind(store.stage(&through, None).map(drop)), FaultKind::LinkInPath);
    assert_eq!(kind(store.make_folder(&through, &Attributes::default()).map(drop)), FaultKind::LinkInPath);
    assert_eq!(kind(store.rename(&path("way"), &path("way/deeper"))), FaultKind::LinkInPath);
    let mode = Attributes { mode: Some(0o777), ..Attributes::default() };
    assert_eq!(kind(adjust(&store, &path("way"), &mode)), FaultKind::LinkInPath);
    assert_eq!(std::fs::read_dir(outside.path()).unwrap().count(), 0);
}

/// A folder that is swapped for a link while the store has it open: what is written goes to the folder, wherever it is
/// now, and never through the link.
#[test]
fn a_folder_swapped_for_a_link_during_the_work_is_not_left() {
    let outside = tempfile::tempdir().unwrap();
    let (folder, store) = store();
    put(&store, "a/before", b"1", 1_000);
    let mut stage = store.stage(&path("a/during"), None).unwrap();
    stage.write(b"2").unwrap();
    std::fs::rename(folder.path().join("a"), folder.path().join("b")).unwrap();
    symlink(outside.path(), folder.path().join("a")).unwrap();
    let sealed = stage.seal(&Attributes::default()).unwrap();
    store.publish(sealed, &Publish { expect: Expect::Absent, keep_as: None }).unwrap();
    assert_eq!(std::fs::read_dir(outside.path()).unwrap().count(), 0);
    assert_eq!(std::fs::read(folder.path().join("b/during")).unwrap(), b"2");
}

#[test]
fn pipes_are_seen_but_not_opened() {
    let (folder, store) = store();
    rustix::fs::mknodat(
        rustix::fs::CWD,
        folder.path().join("pipe"),
        rustix::fs::FileType::Fifo,
        rustix::fs::Mode::RUSR,
        0,
    )
    .unwrap();
    assert!(matches!(store.stat(&path("pipe")).unwrap().unwrap().kind, EntryKind::Special(_)));
    assert!(store.open(&path("pipe"), 0).is_err(), "a pipe is no content");
}

#[test]
fn holes_stay_holes() {
    let (folder, store) = store();
    let from = std::fs::File::create(folder.path().join("from")).unwrap();
    from.set_len(8 << 20).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&from, b"in the middle", 4 << 20).unwrap();
    let mut content = store.open(&path("from"), 0).unwrap();
    let mut stage = store.stage(&path("to"), None).unwrap();
    assert_eq!(stage.fill(content.as_mut(), 8 << 20, &mut |_| Flow::Go).unwrap(), 8 << 20);
    let sealed = stage.seal(&Attributes::default()).unwrap();
    store.publish(sealed, &Publish { expect: Expect::Absent, keep_as: None }).unwrap();
    assert_eq!(get(&store, "to"), std::fs::read(folder.path().join("from")).unwrap());
    assert!(folder.path().join("to").metadata().unwrap().blocks() < 1 << 10, "the holes were filled");
}

#[test]
fn modes_survive_any_umask_and_parts_are_private() {
    let (folder, store) = store();
    let stage = store.stage(&path("x"), None).unwrap();
    let part = std::fs::read_dir(folder.path()).unwrap().next().unwrap().unwrap();
    assert_eq!(part.metadata().unwrap().permissions().mode() & 0o777, 0o600);
    let sealed = stage.seal(&Attributes { mode: Some(0o4777), ..Attributes::default() }).unwrap();
    store.publish(sealed, &Publish { expect: Expect::Absent, keep_as: None }).unwrap();
    let mode = folder.path().join("x").metadata().unwrap().permissions().mode();
    assert_eq!(mode & 0o7777, 0o777, "no setuid without the owner");
    assert_eq!(names(&store, ""), ["x"]);
}

#[test]
fn very_deep_trees_can_be_reached() {
    let (_folder, store) = store();
    let part = "d".repeat(200);
    let deep = path(&[part.as_str(); 30].join("/"));
    store.make_folders(&deep).unwrap();
    assert!(deep.as_bytes().len() > 4096);
    assert!(store.list(&deep).unwrap().entries.is_empty());
}

#[test]
fn what_an_earlier_run_left_is_adopted_as_far_as_it_proves_equal() {
    let (folder, store) = store();
    let content: Vec<u8> = (0..3_000_000_u32).map(|at| (at >> 4) as u8).collect();
    std::fs::write(folder.path().join("from"), &content).unwrap();
    let part = folder.path().join(".reedhook-part-key");
    std::fs::write(&part, &content[..2_000_000]).unwrap();
    std::fs::set_permissions(&part, std::fs::Permissions::from_mode(0o644)).unwrap();
    let mut source = store.open(&path("from"), 0).unwrap();
    let begin = || store.stage_resumable(&path("to"), "key", 4, &Attributes::default());
    assert_eq!(
        begin().map(drop).unwrap_err().kind,
        FaultKind::Exists,
        "others could read it: it is not ours"
    );
    let close = || std::fs::set_permissions(&part, std::fs::Permissions::from_mode(0o600)).unwrap();
    close();
    let mut stage = begin().unwrap();
    assert_eq!(stage.adopt(source.as_mut(), &mut |_| Flow::Go).unwrap(), 2_000_000);
    assert_eq!(
        stage.fill(source.as_mut(), 1_000_000, &mut |_| Flow::Go).unwrap(),
        1_000_000,
        "only the rest"
    );
    let sealed = stage.seal(&Attributes::default()).unwrap();
    store.publish(sealed, &Publish { expect: Expect::Absent, keep_as: None }).unwrap();
    assert_eq!(get(&store, "to"), content);

    // One wrong byte, and it is not taken; nor is a link or a second name that somebody planted in its place.
    let mut spoilt = content[..2_000_000].to_vec();
    spoilt[1_999_999] ^= 1;
    std::fs::write(&part, &spoilt).unwrap();
    close();
    let mut source = store.open(&path("from"), 0).unwrap();
    let mut stage = store.stage_resumable(&path("to2"), "key", 4, &Attributes::default()).unwrap();
    assert!(stage.adopt(source.as_mut(), &mut |_| Flow::Go).is_err());
    drop(stage);
    assert!(!part.exists(), "what is refused is cleared");
    std::fs::write(folder.path().join("precious"), b"precious").unwrap();
    std::fs::hard_link(folder.path().join("precious"), &part).unwrap();
    close();
    assert!(store.stage_resumable(&path("to2"), "key", 4, &Attributes::default()).is_err());
    std::fs::remove_file(&part).unwrap();
    symlink("precious", &part).unwrap();
    assert!(store.stage_resumable(&path("to2"), "key", 4, &Attributes::default()).is_err());
    assert_eq!(get(&store, "precious"), b"precious");
}

/// One of the four things that a run does to a file that is there: what has to be made ready for it is, before `start`.
fn deed(
    store: &LocalStore,
    which: usize,
    file: &RelPath,
    kept: &RelPath,
    expected: &Meta,
    start: impl FnOnce(),
) -> Result<()> {
    let keep_as = match which {
        0 => Some(kept.clone()),
        1 => None,
        2 => {
            start();
            return store.remove(file, expected);
        }
        _ => {
            start();
            return store.rename_this(file, kept, expected);
        }
    };
    let mut stage = store.stage(file, None)?;
    stage.write(b"the run's")?;
    let attributes = Attributes { modified: Some(Stamp::new(2_000, 0)), ..Attributes::default() };
    let sealed = stage.seal(&attributes)?;
    start();
    store.publish(sealed, &Publish { expect: Expect::This(expected.clone()), keep_as }).map(drop)
}

/// An editor saves (a new file, renamed over the old one) in the very moment in which a run replaces or removes the file. Whoever
/// comes first: what was saved is there afterwards, at its path or set aside.
#[test]
fn what_is_saved_between_a_look_and_a_rename_is_not_lost() {
    const ROUNDS: usize = 3000;
    let (folder, store) = store();
    let at = |name: &str| folder.path().join(name);
    store.make_folder(&path("kept"), &Attributes::default()).unwrap();
    store.make_folder(&path("work"), &Attributes::default()).unwrap();
    let file = path("work/thesis");
    let (mut met, mut refused) = (0, 0);
    for round in 0..ROUNDS {
        put(&store, "work/thesis", format!("old {round}").as_bytes(), 1_000);
        let expected = store.stat(&file).unwrap().unwrap();
        std::fs::write(at("draft"), format!("saved {round}")).unwrap();
        let kept = path(&format!("kept/{round}"));
        let start = std::sync::Barrier::new(2);
        let outcome = std::thread::scope(|scope| {
            scope.spawn(|| {
                start.wait();
                // From well before to well after what happens meanwhile.
                (0..(round * 7) % 4001).for_each(|_| std::hint::spin_loop());
                std::fs::rename(at("draft"), at("work/thesis")).unwrap();
            });
            deed(&store, round % 4, &file, &kept, &expected, || {
                start.wait();
            })
        });
        let saved = format!("saved {round}");
        let holds = |folder: &str| {
            std::fs::read_dir(at(folder))
                .unwrap()
                .flatten()
                .any(|entry| std::fs::read_to_string(entry.path()).is_ok_and(|content| content == saved))
        };
        assert!(holds("work") || holds("kept"), "round {round}: what was saved is nowhere; {outcome:?}");
        match outcome {
            Ok(()) => met += 1,
            Err(error) => {
                let expected = [FaultKind::Changed, FaultKind::Exists, FaultKind::NotFound];
                assert!(expected.contains(&error.kind), "{error:?}");
                refused += 1;
            }
        }
        assert!(names(&store, "work").len() <= 1, "nothing of ours is left: {:?}", names(&store, "work"));
    }
    assert!(met > ROUNDS / 20 && refused > ROUNDS / 20, "both came first at times: {met} {refused}");
}
