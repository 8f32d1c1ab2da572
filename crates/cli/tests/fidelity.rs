//! `preserve`: what of a tree is carried over, compared attribute by attribute with the system's own tools.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;
use std::os::unix::fs::{MetadataExt, symlink};
use std::path::Path;
use std::process::Command;

use common::{Station, as_root_only, make_pipe, number, set_mode, tree, with_mounts, with_tools, write};

/// Runs a tool and returns what it printed.
#[track_caller]
fn tool(folder: &Path, line: &str) -> String {
    let output = Command::new("sh").args(["-c", line]).current_dir(folder).output().unwrap();
    assert!(output.status.success(), "{line}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// A description of a whole tree: kinds, modes, owners, sizes, times, devices, which names belong together, attributes, lists.
fn described(root: &Path) -> String {
    let listed = tool(
        root,
        "find . -path ./.reedhook -prune -o ! -path . -printf '%p %y %m %U %G %s %T@ %l\\n' | sort; \
         find . -path ./.reedhook -prune -o -type b -print -o -type c -print | sort | xargs -r stat -c '%n %t %T'; \
         find . -path ./.reedhook -prune -o -type f -links +1 -printf '%i %p\\n' | sort -k2 | \
           awk '{ if (!($1 in seen)) seen[$1] = $2; print $2, \"is\", seen[$1] }'; \
         find . -path ./.reedhook -prune -o ! -type l -print0 | sort -z | xargs -0 getfacl -n --skip-base 2>/dev/null; \
         find . -path ./.reedhook -prune -o -print0 | sort -z | \
           xargs -0 getfattr -h -d -m '^(user|trusted|security.capability)' 2>/dev/null",
    );
    // Folders' link counts and sizes are the file system's own affair.
    listed.lines().filter(|line| !line.contains(" d ")).collect::<Vec<_>>().join("\n")
}

fn rich_tree(left: &Path) {
    write(&left.join("etc/plain"), b"plain", 1000);
    write(&left.join("etc/owned"), b"owned", 1000);
    write(&left.join("etc/listed"), b"listed", 1000);
    write(&left.join("bin/helper"), b"setuid", 1000);
    write(&left.join("bin/tool"), b"tagged", 1000);
    fs::hard_link(left.join("etc/plain"), left.join("etc/second")).unwrap();
    fs::hard_link(left.join("etc/plain"), left.join("bin/third")).unwrap();
    symlink("../etc/plain", left.join("bin/link")).unwrap();
    fs::create_dir_all(left.join("var/spool")).unwrap();
    make_pipe(&left.join("var/pipe"));
    tool(
        left,
        "mknod var/null c 1 3 && mknod var/loop b 7 200 && chown 1234:4321 etc/owned && chown -h 77:88 bin/link",
    );
    tool(
        left,
        "chown 1000:1000 bin/helper && chmod 4755 bin/helper && chown 55:66 var/spool && chmod 2770 var/spool",
    );
    tool(left, "setfacl -m u:1234:rw etc/listed && setfacl -d -m g:4321:rx var/spool");
    tool(
        left,
        "setfattr -n user.station -v fenmere bin/tool && setfattr -n trusted.origin -v drive bin/tool",
    );
    tool(left, "setfattr -n user.folder -v yes var");
    let sparse = fs::File::create(left.join("var/sparse")).unwrap();
    sparse.set_len(8 << 20).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&sparse, b"end", (8 << 20) - 3).unwrap();
}

#[test]
fn full_is_faithful_attribute_by_attribute() {
    let tools = ["setfacl", "getfacl", "setfattr", "getfattr", "mknod", "chown", "find", "awk"];
    if !as_root_only("preserve = \"full\"") || !with_tools("preserve = \"full\"", &tools) {
        return;
    }
    let station = Station::with_job("mirror", &["--preserve", "full"]);
    rich_tree(&station.left());
    let preview = station.run(&["preview", "counts", "--json"]).expect(0).last();
    let run = station.run_job(&[]).expect(0).last();
    for key in ["added", "updated", "meta", "skipped", "bytes"] {
        assert_eq!(preview[key], run[key], "{key}");
    }
    assert_eq!(described(&station.right()), described(&station.left()));
    let blocks = |side: &Path| fs::metadata(side.join("var/sparse")).unwrap().blocks();
    assert!(blocks(&station.right()) <= blocks(&station.left()) + 16, "the holes were filled");
    let again = station.run_job(&[]).expect(0).last();
    assert_eq!(["added", "updated", "meta", "removed"].map(|key| number(&again, key)), [0; 4]);

    // Each of these changes nothing but metadata, or which names belong together.
    tool(
        &station.left(),
        "chown 9:9 etc/owned && setfacl -b etc/listed && setfattr -x user.station bin/tool",
    );
    tool(&station.left(), "chown 1:1 var/spool && setfattr -n user.folder -v no var");
    tool(&station.left(), "cp -p etc/second etc/copy && mv etc/copy etc/second && ln -f bin/tool etc/tool");
    let run = station.run_job(&[]).expect(0).last();
    assert_eq!(described(&station.right()), described(&station.left()));
    assert_eq!(number(&run, "meta"), 5, "{run}");
    assert_eq!(number(&station.run_job(&[]).expect(0).last(), "updated"), 0);
}

#[test]
fn a_faithful_copy_survives_the_loss_of_rights() {
    if !with_tools("extended attributes", &["setfattr", "getfattr"]) {
        return;
    }
    // Without root's rights, full keeps what it can and says once what it cannot.
    let station = Station::with_job("mirror", &["--preserve", "full"]);
    station.write("a", "1", 1000);
    fs::hard_link(station.left().join("a"), station.left().join("b")).unwrap();
    tool(&station.left(), "setfattr -n user.station -v fenmere a");
    let station = station.without_rights();
    let run = station.run(&["run", "counts"]).expect(0);
    assert_eq!(run.err.matches("owners and devices are kept only when root").count(), 1, "{}", run.err);
    let inode = |name: &str| fs::metadata(station.right().join(name)).unwrap().ino();
    assert_eq!(inode("a"), inode("b"));
    assert!(tool(&station.right(), "getfattr -n user.station a").contains("fenmere"));
    assert!(station.run(&["run", "counts"]).expect(0).out.contains("nothing to do"));
}

/// A copy leaves a newer file at the destination; its other names on the left must not become names of that one.
#[test]
fn a_file_that_is_left_lends_its_content_to_nobody() {
    let station = Station::with_job("copy", &["--preserve", "full"]);
    station.write("a", "left", 1000);
    fs::hard_link(station.left().join("a"), station.left().join("b")).unwrap();
    write(&station.right().join("a"), b"newer at the right", 9000);
    let run = station.run_job(&[]).expect(0).last();
    assert_eq!((number(&run, "added"), number(&run, "skipped")), (1, 1));
    assert_eq!(fs::read(station.right().join("b")).unwrap(), b"left");
    assert_eq!(fs::read(station.right().join("a")).unwrap(), b"newer at the right");
}

#[test]
fn content_carries_data_and_times_only() {
    let station = Station::with_job("mirror", &["--preserve", "content"]);
    station.write("a", "1", 1000);
    set_mode(&station.left().join("a"), 0o600);
    symlink("a", station.left().join("link")).unwrap();
    let run = station.run_job(&[]).expect(0).last();
    assert_eq!((number(&run, "added"), number(&run, "skipped")), (1, 1));
    let meta = fs::metadata(station.right().join("a")).unwrap();
    assert_eq!((meta.mode() & 0o777, meta.mtime()), (0o644, 1000));
    assert!(!station.right().join("link").exists());
    set_mode(&station.left().join("a"), 0o640);
    assert_eq!(number(&station.run_job(&[]).expect(0).last(), "meta"), 0);
}

#[test]
fn other_file_systems_are_left_out_on_request_and_the_kernels_own_always() {
    if !with_mounts("mounting below the source", &[]) {
        return;
    }
    let station = Station::with_job("mirror", &[]);
    station.write("a", "1", 1000);
    for (name, kind) in [("proc", "proc"), ("extra", "tmpfs")] {
        fs::create_dir(station.left().join(name)).unwrap();
        tool(&station.left(), &format!("mount -t {kind} none {name}"));
    }
    fs::write(station.left().join("extra/inside"), "1").unwrap();
    let first = station.run_job(&[]);
    station.run(&["job", "edit", "counts", "--one-filesystem"]).expect(0);
    let second = station.run_job(&[]);
    let found = tree(&station.right());
    tool(&station.left(), "umount proc extra");
    assert_eq!(
        (number(&first.expect(0).last(), "added"), number(&second.expect(0).last(), "removed")),
        (2, 0)
    );
    let names: Vec<_> = found.keys().map(|path| path.to_str().unwrap()).collect();
    assert_eq!(names, ["a", "extra", "extra/inside", "proc"], "what is not looked at is not removed");
}

/// Where content passes through memory, because it is hashed or slowed down, a file's holes are still not filled.
#[test]
fn holes_stay_holes_on_every_way() {
    for options in [["--verify", "changed"], ["--limit", "900 MB/s"]] {
        let station = Station::with_job("mirror", &options);
        let sparse = fs::File::create(station.left().join("sparse")).unwrap();
        std::os::unix::fs::FileExt::write_all_at(&sparse, b"middle", 5 << 20).unwrap();
        sparse.set_len(9 << 20).unwrap();
        station.run_job(&[]).expect(0);
        let copy = station.right().join("sparse");
        assert!(fs::read(station.left().join("sparse")).unwrap() == fs::read(&copy).unwrap(), "{options:?}");
        let used = fs::metadata(&copy).unwrap().blocks() * 512;
        assert!(used < 1 << 20, "{options:?}: {used} bytes on the medium");
        assert_eq!(common::number(&station.run_job(&[]).expect(0).last(), "same"), 1);
    }
}

/// A list that gives one user access shows in the mode as if the group had it. Where the list does not travel, the group gets nothing.
#[test]
fn an_access_list_that_stays_behind_opens_nothing_to_the_group() {
    if !with_tools("access lists", &["setfacl", "getfacl"]) {
        return;
    }
    let mode = |path: &Path| fs::metadata(path).unwrap().mode() & 0o7777;
    for kind in ["mirror", "two-way"] {
        let station = Station::with_job(kind, &[]);
        for (path, own) in [("closed/notes.csv", 0o600), ("rota.csv", 0o640), ("old/notes.csv", 0o600)] {
            station.write(path, "one", 1_000);
            set_mode(&station.left().join(path), own);
        }
        set_mode(&station.left().join("closed"), 0o700);
        set_mode(&station.left().join("old"), 0o700);
        tool(
            &station.left(),
            "setfacl -m u:65534:rwx closed old && setfacl -m u:65534:rw closed/notes.csv old/notes.csv",
        );
        // The list of the group's own entry is the more.
        tool(&station.left(), "setfacl -m g::r,u:65534:rw rota.csv");
        let lists = tool(&station.left(), "getfacl -n closed old closed/notes.csv rota.csv");
        station.run_job(&["--yes"]).expect(0);
        let modes = || {
            let of = |path: &str| mode(&station.right().join(path));
            [of("closed"), of("closed/notes.csv"), of("old"), of("old/notes.csv"), of("rota.csv")]
        };
        assert_eq!(modes().map(|mode| format!("{mode:o}")), ["700", "600", "700", "600", "640"], "{kind}");
        let again = station.run(&["run", "counts", "--yes"]).expect(0);
        assert!(again.out.contains("nothing to do"), "{kind}: {}", again.out);
        if kind == "mirror" {
            // As older versions have made it.
            set_mode(&station.right().join("closed/notes.csv"), 0o660);
            station.run_job(&["--yes"]).expect(0);
            assert_eq!(format!("{:o}", modes()[1]), "600");
        }
        // Another mode goes over, and the list at the source stays as it is.
        tool(&station.left(), "chmod o+r rota.csv && setfacl -m u:65534:rw,g::r rota.csv");
        let lists = lists.replace(
            "user:65534:rw-\ngroup::r--\nmask::rw-\nother::---",
            "user:65534:rw-\ngroup::r--\nmask::rw-\nother::r--",
        );
        station.run_job(&["--yes"]).expect(0);
        assert_eq!(format!("{:o}", modes()[4]), "644", "{kind}");
        // And back, in a job of two ways.
        if kind == "two-way" {
            set_mode(&station.right().join("rota.csv"), 0o604);
            station.run_job(&["--yes"]).expect(0);
            assert_eq!(format!("{:o}", mode(&station.left().join("rota.csv"))), "604");
            set_mode(&station.right().join("rota.csv"), 0o644);
            station.run_job(&["--yes"]).expect(0);
            tool(&station.left(), "setfacl -m u:65534:rw,g::r rota.csv");
            station.run_job(&["--yes"]).expect(0);
        }
        assert_eq!(tool(&station.left(), "getfacl -n closed old closed/notes.csv rota.csv"), lists, "{kind}");
        let again = station.run(&["run", "counts", "--yes"]).expect(0);
        assert!(again.out.contains("nothing to do"), "{kind}: {}", again.out);
    }
    // What stands at the destination has a list of its own: the folder that is kept of it is no more open than it was.
    let station = Station::with_job("mirror", &["--max-removals", "off"]);
    station.write("old/notes.csv", "one", 1_000);
    station.write("rota.csv", "one", 1_000);
    station.run_job(&["--yes"]).expect(0);
    set_mode(&station.right().join("old"), 0o700);
    tool(&station.right(), "setfacl -m u:65534:rwx old");
    fs::remove_dir_all(station.left().join("old")).unwrap();
    station.run_job(&["--yes"]).expect(0);
    let kept = fs::read_dir(station.right().join(".reedhook/kept")).unwrap().next().unwrap().unwrap().path();
    assert_eq!(format!("{:o}", mode(&kept.join("old"))), "700");
    station.run(&["undo", "counts", "last", "--yes"]).expect(0);
    assert_eq!(format!("{:o}", mode(&station.right().join("old"))), "700");
}

/// What `full` keeps is put back by an undo, and what takes another thing's place gets it in one run.
#[test]
fn what_full_has_changed_is_undone() {
    if !as_root_only("owners")
        || !with_tools("owners", &["setfacl", "getfacl", "setfattr", "getfattr", "chown", "find", "awk"])
    {
        return;
    }
    let station = Station::with_job("mirror", &["--preserve", "full", "--max-removals", "off"]);
    station.write("etc/rota", "rota", 1_000);
    station.write("etc/plain", "plain", 1_000);
    station.write("maps/heron", "heron", 1_000);
    tool(
        &station.left(),
        "setfacl -m u:65534:r etc/rota && setfattr -n user.station -v fenmere etc/rota && chown 7:7 etc/rota",
    );
    station.run_job(&["--yes"]).expect(0);
    let before = described(&station.right());
    // Owners, lists and attributes alone; and a pipe.
    tool(
        &station.left(),
        "chown 9:9 etc/rota && setfacl -b etc/rota && setfattr -x user.station etc/rota && setfattr -n user.folder -v yes maps && chown 5:5 maps",
    );
    make_pipe(&station.left().join("etc/pipe"));
    station.run_job(&["--yes"]).expect(0);
    assert_ne!(described(&station.right()), before);
    let undone = station.run(&["undo", "counts", "last", "--yes"]).expect(0);
    assert_eq!(described(&station.right()), before, "{}", undone.out);
    // Setuid is not given back to a file that somebody else owned in the meantime.
    let left = station.left();
    tool(&left, "cp etc/plain etc/tool && chmod 4755 etc/tool");
    station.run_job(&["--yes"]).expect(0);
    tool(&left, "chown 9:9 etc/tool && chmod 755 etc/tool");
    station.run_job(&["--yes"]).expect(0);
    let undone = station.run(&["undo", "counts", "last", "--yes"]).expect(1);
    assert!(undone.out.contains("but not its setuid"), "{}", undone.out);
    let found = fs::metadata(station.right().join("etc/tool")).unwrap();
    assert_eq!((found.uid(), found.mode() & 0o7777), (0, 0o755));
    fs::remove_file(station.left().join("etc/pipe")).unwrap();
    station.run_job(&["--yes"]).expect(0);
    // A file of two names where folders and a pipe were.
    make_pipe(&station.right().join("etc/second"));
    fs::remove_dir_all(station.left().join("maps")).unwrap();
    tool(&station.left(), "ln etc/rota maps && ln etc/rota etc/second && ln etc/rota aaa");
    station.run_job(&["--yes"]).expect(0);
    assert_eq!(described(&station.right()), described(&station.left()));
    let again = station.run(&["run", "counts", "--yes"]).expect(0);
    assert!(again.out.contains("nothing to do"), "{}", again.out);
}
