//! What every store has to do alike, whatever is behind it. A bug that a store had becomes a case here.

use std::io::Read;

use reedhook_core::entry::{EntryKind, Meta, Stamp};
use reedhook_core::path::{Name, RelPath};
use reedhook_core::store::{Attributes, Expect, FaultKind, Flow, Publish, Store, StoreExt};

use crate::builders::path;
use crate::trees::{adjust, get, names, put};

/// The contract of [`Store`], checked on a fresh empty store. A store that lacks a capability must refuse what needs it.
pub fn conformance(store: &dyn Store) {
    begins_empty(store);
    stages_publishes_and_reads(store);
    replaces_only_what_is_expected(store);
    keeps_what_is_replaced(store);
    hides_nothing_and_leaves_nothing(store);
    makes_and_removes_folders(store);
    renames_without_overwriting(store);
    holds_links_or_refuses(store);
    sets_times_and_modes(store);
    holds_odd_names(store);
    copies_between_stores(store);
    locks_once(store);
}

fn kind_of<T>(outcome: reedhook_core::store::Result<T>) -> Option<FaultKind> {
    outcome.err().map(|error| error.kind)
}

fn begins_empty(store: &dyn Store) {
    assert!(store.list(&RelPath::root()).expect("list").entries.is_empty());
    assert!(store.stat(&RelPath::root()).expect("stat").expect("a root").is_folder());
    assert_eq!(store.stat(&path("absent")).expect("stat"), None);
    assert_eq!(store.stat(&path("absent/deeper")).ok().flatten(), None);
    assert_eq!(kind_of(store.list(&path("absent"))), Some(FaultKind::NotFound));
    assert_eq!(kind_of(store.open(&path("absent"), 0)), Some(FaultKind::NotFound));
}

fn stages_publishes_and_reads(store: &dyn Store) {
    put(store, "a/one.csv", b"heron,3\n", 1_000);
    let meta = store.stat(&path("a/one.csv")).expect("stat").expect("present");
    assert_eq!((meta.kind, meta.size), (EntryKind::File, 8));
    if let Some(precision) = store.capabilities().time_precision {
        assert!(meta.modified.expect("a time").same_within(Stamp::new(1_000, 0), precision));
    }
    assert_eq!(get(store, "a/one.csv"), b"heron,3\n");
    let listed = store.list(&path("a")).expect("list");
    assert_eq!(listed.entries.len(), 1);
    assert_eq!(listed.entries[0].meta, meta, "a listing and a stat tell the same");
    let mut tail = Vec::new();
    store.open(&path("a/one.csv"), 6).expect("open").read_to_end(&mut tail).expect("read");
    assert_eq!(tail, b"3\n");
    assert!(store.open(&path("a"), 0).is_err(), "a folder is no file");
}

fn replaces_only_what_is_expected(store: &dyn Store) {
    put(store, "b/x", b"old", 1_000);
    let old = store.stat(&path("b/x")).expect("stat").expect("present");
    let publish = |content: &[u8], expect: Expect| {
        let mut stage = store.stage(&path("b/x"), None).expect("stage");
        stage.write(content).expect("write");
        let sealed = stage
            .seal(&Attributes { modified: Some(Stamp::new(2_000, 0)), ..Attributes::default() })
            .expect("seal");
        kind_of(store.publish(sealed, &Publish { expect, keep_as: None }))
    };
    assert_eq!(publish(b"new!", Expect::Absent), Some(FaultKind::Changed));
    assert_eq!(publish(b"new!", Expect::This(Meta { size: 99, ..old.clone() })), Some(FaultKind::Changed));
    assert_eq!(get(store, "b/x"), b"old");
    assert_eq!(publish(b"new!", Expect::This(old.clone())), None);
    assert_eq!(get(store, "b/x"), b"new!");
    assert_eq!(kind_of(store.remove(&path("b/x"), &old)), Some(FaultKind::Changed));
    let new = store.stat(&path("b/x")).expect("stat").expect("present");
    assert_eq!(kind_of(store.remove(&path("b/x"), &new)), None);
    assert_eq!(publish(b"new!", Expect::This(new)), Some(FaultKind::Changed));
    assert_eq!(names(store, "b"), Vec::<String>::new(), "refused files leave nothing behind");
}

fn keeps_what_is_replaced(store: &dyn Store) {
    if !store.capabilities().rename {
        return;
    }
    put(store, "k/x", b"old", 1_000);
    put(store, "kept/.hold", b"", 1_000);
    let old = store.stat(&path("k/x")).expect("stat").expect("present");
    let mut stage = store.stage(&path("k/x"), None).expect("stage");
    stage.write(b"newer").expect("write");
    let sealed = stage.seal(&Attributes::default()).expect("seal");
    let how = Publish { expect: Expect::This(old), keep_as: Some(path("kept/x")) };
    store.publish(sealed, &how).expect("publish");
    assert_eq!((get(store, "k/x"), get(store, "kept/x")), (b"newer".to_vec(), b"old".to_vec()));
}

fn hides_nothing_and_leaves_nothing(store: &dyn Store) {
    store.make_folders(&path("s")).expect("folders");
    let mut stage = store.stage(&path("s/gone"), None).expect("stage");
    stage.write(b"never").expect("write");
    drop(stage);
    let mut stage = store.stage(&path("s/discarded"), None).expect("stage");
    stage.write(b"never").expect("write");
    let sealed = stage.seal(&Attributes::default()).expect("seal");
    assert_eq!(store.stat(&path("s/discarded")).expect("stat"), None, "sealed is not published");
    store.discard(sealed);
    assert_eq!(names(store, "s"), Vec::<String>::new());
}

fn makes_and_removes_folders(store: &dyn Store) {
    let make = |at: &str| kind_of(store.make_folder(&path(at), &Attributes::default()));
    assert_eq!(make("f"), None);
    assert_eq!(make("f"), Some(FaultKind::Exists));
    assert_eq!(make("absent/f"), Some(FaultKind::NotFound));
    put(store, "f/x", b"x", 1_000);
    assert_eq!(kind_of(store.remove_folder(&path("f"))), Some(FaultKind::NotEmpty));
    let meta = store.stat(&path("f/x")).expect("stat").expect("present");
    store.remove(&path("f/x"), &meta).expect("remove");
    assert_eq!(kind_of(store.remove_folder(&path("f"))), None);
    assert_eq!(kind_of(store.remove_folder(&path("f"))), Some(FaultKind::NotFound));
    store.make_folders(&path("m/n/o")).expect("a chain of folders");
    store.make_folders(&path("m/n/o")).expect("again");
    assert!(store.stat(&path("m/n/o")).expect("stat").expect("present").is_folder());
}

fn renames_without_overwriting(store: &dyn Store) {
    put(store, "r/from", b"1", 1_000);
    put(store, "r/taken", b"2", 1_000);
    let rename = |from: &str, to: &str| kind_of(store.rename(&path(from), &path(to)));
    if !store.capabilities().rename {
        assert_eq!(rename("r/from", "r/to"), Some(FaultKind::Unsupported));
        return;
    }
    assert_eq!(rename("r/from", "r/taken"), Some(FaultKind::Exists));
    assert_eq!(rename("r/absent", "r/to"), Some(FaultKind::NotFound));
    assert_eq!(rename("r/from", "r/to"), None);
    assert_eq!(
        (names(store, "r"), get(store, "r/taken")),
        (vec!["taken".into(), "to".into()], b"2".to_vec())
    );
}

fn holds_links_or_refuses(store: &dyn Store) {
    store.make_folders(&path("l")).expect("folders");
    let sealed = store.stage_link(&path("l/link"), b"../a/one.csv", &Attributes::default());
    if !store.capabilities().links {
        assert_eq!(kind_of(sealed), Some(FaultKind::Unsupported));
        return;
    }
    store
        .publish(sealed.expect("a link"), &Publish { expect: Expect::Absent, keep_as: None })
        .expect("publish");
    let meta = store.stat(&path("l/link")).expect("stat").expect("present");
    assert_eq!((meta.kind, meta.target.as_deref()), (EntryKind::Link, Some(b"../a/one.csv".as_slice())));
    assert!(store.open(&path("l/link"), 0).is_err(), "a link is never followed");
    // A link to a folder is not a way into it.
    let sealed = store.stage_link(&path("l/a"), b"../a", &Attributes::default()).expect("a link");
    store.publish(sealed, &Publish { expect: Expect::Absent, keep_as: None }).expect("publish");
    assert!(store.list(&path("l/a")).is_err());
    assert!(store.open(&path("l/a/one.csv"), 0).is_err());
    assert!(store.stage(&path("l/a/two.csv"), None).is_err());
    assert_eq!(names(store, "a"), ["one.csv"]);
}

fn sets_times_and_modes(store: &dyn Store) {
    put(store, "t/x", b"x", 1_000);
    let attributes =
        Attributes { modified: Some(Stamp::new(86_400, 123_456_789)), mode: Some(0o640), extra: None };
    let outcome = adjust(store, &path("t/x"), &attributes);
    let can = store.capabilities();
    let Some(precision) = can.time_precision else {
        assert_eq!(kind_of(outcome), Some(FaultKind::Unsupported));
        return;
    };
    outcome.expect("attributes");
    let meta = store.stat(&path("t/x")).expect("stat").expect("present");
    assert!(meta.modified.expect("a time").same_within(Stamp::new(86_400, 123_456_789), precision));
    assert!(!meta.is_arrival(), "a time that was set is the content's own");
    if can.modes {
        assert_eq!(meta.mode, Some(0o640));
    }
    if can.modes {
        let closed = Attributes { mode: Some(0o700), ..Attributes::default() };
        adjust(store, &path("t"), &closed).expect("a folder's mode, as far as it has one");
    }
    if can.folder_times {
        adjust(store, &path("t"), &attributes_of_folder()).expect("a folder's attributes");
        let meta = store.stat(&path("t")).expect("stat").expect("present");
        assert!(meta.modified.expect("a time").same_within(Stamp::new(77_000, 0), precision));
    }
    assert_eq!(kind_of(adjust(store, &path("t/absent"), &attributes)), Some(FaultKind::NotFound));
}

fn attributes_of_folder() -> Attributes {
    Attributes { modified: Some(Stamp::new(77_000, 0)), mode: Some(0o750), extra: None }
}

fn holds_odd_names(store: &dyn Store) {
    let longest = "n".repeat(store.capabilities().max_name.min(255));
    let odd = [" leading", "trailing ", "-rf", "two\nlines", "Graugänse", "a\\b", "*?[x]", longest.as_str()];
    let can = store.capabilities();
    let odd = odd
        .into_iter()
        .filter(|name| can.names.refusal(&Name::new(name.as_bytes()).expect("a name")).is_none());
    let odd: Vec<&str> = odd.collect();
    for name in &odd {
        put(store, &format!("odd/{name}"), name.as_bytes(), 1_000);
        assert_eq!(get(store, &format!("odd/{name}")), name.as_bytes());
    }
    assert_eq!(store.list(&path("odd")).expect("list").entries.len(), odd.len());
}

/// Fills a staged file from an opened one of the same store, over several sizes.
fn copies_between_stores(store: &dyn Store) {
    for size in [0_usize, 1, 4096, 300_000] {
        let content: Vec<u8> = (0..size).map(|at| (at % 251) as u8).collect();
        put(store, "c/from", &content, 1_000);
        store.make_folders(&path("c")).expect("folders");
        let mut from = store.open(&path("c/from"), 0).expect("open");
        assert_eq!(from.meta().expect("meta").size, size as u64);
        let mut stage = store.stage(&path("c/to"), None).expect("stage");
        let mut told = 0;
        let written = stage.fill(from.as_mut(), size as u64, &mut |bytes| {
            told += bytes;
            Flow::Go
        });
        assert_eq!(written.expect("fill"), size as u64);
        assert_eq!(told, size as u64, "every byte is reported");
        let sealed = stage.seal(&Attributes::default()).expect("seal");
        store.publish(sealed, &Publish { expect: Expect::Absent, keep_as: None }).expect("publish");
        assert_eq!(get(store, "c/to"), content);
        let meta = store.stat(&path("c/to")).expect("stat").expect("present");
        store.remove(&path("c/to"), &meta).expect("remove");
    }
}

fn locks_once(store: &dyn Store) {
    let held = store.lock().expect("the first lock");
    assert_eq!(kind_of(store.lock()), Some(FaultKind::InUse));
    drop(held);
    assert_eq!(kind_of(store.lock()), None);
}
