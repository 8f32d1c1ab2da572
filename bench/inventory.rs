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
