//! Inventories: how long taking one takes against a `find` that prints the same, how large it is, and how long words take to be found.

use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Instant;

fn timed(command: &mut Command) -> f64 {
    let begun = Instant::now();
    let ended = command.stdout(Stdio::null()).stderr(Stdio::null()).status();
    assert!(ended.is_ok(), "{command:?}");
    begun.elapsed().as_secs_f64()
}

fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

/// Takes and searches inventories of a tree of so many entries, and prints what was measured.
pub fn rows(command: &dyn Fn(&[&str]) -> Command, tree: &Path, home: &Path, entries: usize, pairs: usize) {
    let place = tree.display().to_string();
    let find = || {
        let mut find = Command::new("find");
        find.arg(tree).args(["-printf", "%y %s %T@ %P\\n"]);
        timed(&mut find)
    };
    let file = home.join("inventories.db");
    let drop_all = || {
        for end in ["", "-wal", "-shm"] {
            let _ = fs::remove_file(format!("{}{end}", file.display()));
        }
    };
    let (mut theirs, mut first, mut again) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..pairs {
        drop_all();
        theirs.push(find());
        first.push(timed(&mut command(&["inventory", "take", &place, "--name", "tree"])));
        again.push(timed(&mut command(&["inventory", "take", &place, "--name", "tree"])));
    }
    let (theirs, first, again) = (median(theirs), median(first), median(again));
    let size = fs::metadata(&file).map_or(0, |meta| meta.len());
    println!(
        "  an inventory of {entries} entries: taken in {first:.2} s, {:.2} of `find -printf` ({theirs:.2} s; aim 2.5); anew {again:.2} s; {:.0} bytes an entry (aim 60)",
        first / theirs,
        size as f64 / entries as f64
    );
    let search =
        || median((0..5).map(|_| timed(&mut command(&["inventory", "find", "needle", "2031"]))).collect());
    let one = search();
    for number in 1..30 {
        timed(&mut command(&["inventory", "take", &place, "--name", &format!("tree-{number}")]));
    }
    println!("  words found in one of them in {one:.3} s (aim 0.3), in thirty in {:.3} s (aim 3)", search());
}

/// What a run costs more that keeps the inventory of its destination: a first mirror, and one with nothing to do.
pub fn cost_rows(command: &dyn Fn(&[&str]) -> Command, tree: &Path, target: &Path, pairs: usize) {
    let tree = tree.display().to_string();
    let folder = target.join("inventoried");
    let place = folder.display().to_string();
    for (store, kept) in [("kept", "on"), ("bare", "off")] {
        timed(&mut command(&["store", "add", store, &place, "--inventory", kept, "--yes"]));
    }
    let mirror = |store: &str| {
        timed(&mut command(&["once", "mirror", &tree, &format!("@{store}/all"), "--yes", "--quiet"]))
    };
    let anew = |store: &str| {
        let _ = fs::remove_dir_all(&folder);
        let _ = fs::create_dir_all(&folder);
        timed(&mut command(&["inventory", "drop", "kept"]));
        timed(Command::new("sync").arg("-f").arg(target));
        mirror(store)
    };
    let (mut first, mut idle) = (Vec::new(), Vec::new());
    for _ in 0..pairs {
        first.push((anew("bare"), anew("kept")));
    }
    mirror("kept");
    for _ in 0..pairs * 3 {
        idle.push((mirror("bare"), mirror("kept")));
    }
    let _ = fs::remove_dir_all(&folder);
    for (what, times) in [("a first mirror", first), ("a run with nothing to do", idle)] {
        let (bare, kept): (Vec<f64>, Vec<f64>) = times.into_iter().unzip();
        let (bare, kept) = (median(bare), median(kept));
        println!(
            "  {what} that keeps an inventory: {kept:.3} s, {:.3} of one that does not ({bare:.3} s; aim 1.05)",
            kept / bare
        );
    }
}
