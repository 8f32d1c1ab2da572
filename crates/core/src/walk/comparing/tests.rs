use super::*;
use crate::testing::path;

fn tally(files: u64, folders: u64, bytes: u64) -> Option<Tally> {
    Some(Tally { files, folders, bytes })
}

#[test]
fn each_folder_counts_what_lies_below_it_and_nothing_beside_it() {
    // "a-b" sorts between "a" and "a/b" by its bytes, and lies in neither.
    let own = vec![
        (path(""), [tally(1, 2, 10), tally(0, 1, 0)]),
        (path("a"), [tally(2, 1, 20), tally(2, 0, 25)]),
        (path("a-b"), [tally(1, 0, 1), None]),
        (path("a/b"), [tally(3, 0, 30), None]),
    ];
    let face = Some(Face { kind: EntryKind::File, size: 1, modified: None });
    let differing = |at: &str, right: Option<&str>| Differing {
        path: path(at),
        state: DiffState::Moved,
        left: face,
        right: face,
        right_path: right.map(path),
        items: 1,
    };
    let found = rolled_up(own, &[differing("a/b/x", Some("a/y")), differing("top", None)]);
    let expected = [
        (".", tally(7, 3, 61), tally(2, 1, 25), 2),
        ("a", tally(5, 1, 50), tally(2, 0, 25), 1),
        ("a/b", tally(3, 0, 30), None, 1),
        ("a-b", tally(1, 0, 1), None, 0),
    ];
    let found: Vec<_> =
        found.iter().map(|(path, it)| (path.to_string(), it.sides[0], it.sides[1], it.differing)).collect();
    let expected: Vec<_> = expected.map(|(path, left, right, n)| (path.to_owned(), left, right, n)).into();
    assert_eq!(found, expected);
}
