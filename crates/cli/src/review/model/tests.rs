use super::*;

fn path(text: &str) -> RelPath {
    RelPath::new(text.as_bytes()).expect("a path")
}

fn row(text: &str, word: Word) -> Row {
    let kind = if text.ends_with('/') { EntryKind::Folder } else { EntryKind::File };
    let face = Some(Face { kind, size: 10, modified: None });
    let items = 1;
    Row {
        path: path(text.trim_end_matches('/')),
        word,
        left: face,
        right: None,
        elsewhere: None,
        items,
        destination: 0,
        other: None,
    }
}

fn shown(model: &Model) -> Vec<String> {
    let line = |(at, line): (usize, &ReviewLine)| {
        let mark = if at == model.cursor { ">" } else { " " };
        let indent = "  ".repeat(line.depth());
        match line {
            ReviewLine::Folder { path, open, sums, .. } => {
                let sums: Vec<String> =
                    sums.0.iter().map(|(word, items, _)| format!("{items} {}", word.text())).collect();
                format!("{mark}{indent}{path}/{} {}", if *open { "" } else { "…" }, sums.join(", "))
                    .trim_end()
                    .to_owned()
            }
            ReviewLine::Entry { row, .. } => {
                format!("{mark}{indent}{} {}", model.rows[*row].path, model.rows[*row].word.text())
            }
            ReviewLine::Same { path, listed, .. } => format!("{mark}{indent}{path} {}", listed.word.text()),
            ReviewLine::Waiting { .. } => format!("{mark}{indent}reading"),
        }
    };
    model.lines.iter().enumerate().map(line).collect()
}

fn model() -> Model {
    let (add, remove) = (Word::Deed(Done::Added), Word::Deed(Done::Removed));
    let mut model = Model::default();
    model.set_rows(vec![
        row("west/deep/x.csv", add),
        row("a.csv", remove),
        row("north/", Word::Deed(Done::FolderMade)),
        row("north/b.csv", add),
        row("north-old.csv", remove),
        row("west/c.csv", Word::Conflict),
    ]);
    model
}

#[test]
fn a_tree_folds_and_opens_and_counts_what_is_in_it() {
    let mut model = model();
    assert_eq!(
        shown(&model),
        [">a.csv remove", " north/… 1 add", " north-old.csv remove", " west/… 1 add, 1 conflict"]
    );
    model.move_by(3);
    assert_eq!(model.open_here(), None);
    model.move_by(1);
    assert_eq!(
        shown(&model)[3..],
        [" west/ 1 add, 1 conflict", ">  west/c.csv conflict", "   west/deep/… 1 add"]
    );
    model.fold_here();
    assert_eq!(model.cursor, 3);
    model.fold_here();
    assert_eq!(model.lines.len(), 4);
    model.move_by(-100);
    assert_eq!(model.cursor, 0);
    model.move_by(100);
    assert_eq!(model.cursor, 3);
}

#[test]
fn words_hide_rows_and_search_finds_what_is_folded_away() {
    let mut model = model();
    let words: Vec<_> = model.words().into_iter().map(|(word, items, on)| (word.text(), items, on)).collect();
    assert_eq!(
        words,
        [("add", 2, true), ("remove", 2, true), ("make folder", 1, true), ("conflict", 1, true)]
    );
    model.toggle_word(1);
    assert_eq!(shown(&model), [">north/… 1 add", " west/… 1 add, 1 conflict"]);
    assert!(model.search("X.CSV", true));
    assert_eq!(
        shown(&model)[2..],
        ["   west/c.csv conflict", "   west/deep/ 1 add", ">    west/deep/x.csv add"]
    );
    assert!(model.search("b.csv", true), "from the beginning again");
    assert!(model.search("x.csv", false) && !model.search("a.csv", true), "what is hidden is not found");
    model.show_all_words();
    assert!(model.search("a.csv", true));
}

#[test]
fn what_is_the_same_comes_from_listings_and_is_waited_for() {
    let mut model = model();
    assert_eq!(model.show_same(true), [RelPath::root()]);
    assert_eq!(shown(&model).last().map(String::as_str), Some(" reading"));
    let face = Some(Face { kind: EntryKind::File, size: 1, modified: None });
    let folder = Some(Face { kind: EntryKind::Folder, size: 0, modified: None });
    let listed = |name: &str, face| Listed {
        name: Name::new(name.as_bytes()).expect("a name"),
        left: face,
        right: face,
        word: Word::Same,
    };
    model.take_listing(
        RelPath::root(),
        vec![listed("a.csv", face), listed("b.csv", face), listed("empty", folder)],
    );
    assert_eq!(shown(&model)[..3], [">a.csv remove", " b.csv same", " empty/…"]);
    model.move_by(2);
    assert_eq!(model.open_here(), Some(path("empty")), "asked for once");
    assert_eq!(model.show_same(false), []);
    assert_eq!(model.lines.len(), 4);
}

#[test]
fn choices_are_of_rows_of_whole_folders_and_of_conflicts() {
    let mut model = model();
    model.choose_here();
    assert_eq!(model.leaves(), HashSet::from([(0, path("a.csv"))]));
    model.move_by(3);
    model.choose_here();
    assert_eq!(model.leaves().len(), 2, "a conflict is not among them");
    model.choose_here();
    assert_eq!(model.leaves().len(), 1);
    model.open_here();
    model.move_by(1);
    let mut seen = Vec::new();
    for _ in 0..3 {
        model.choose_here();
        seen.push(model.row_here().map(|row| model.choice(row)).unwrap_or_default());
    }
    assert_eq!(seen, [Choice::Left, Choice::Right, Choice::AsPlanned]);
    let words: Vec<_> = model.chosen().into_iter().map(|(word, items)| (word.text(), items)).collect();
    assert_eq!(words, [("add", 2), ("remove", 1), ("make folder", 1)]);
}

#[test]
fn a_million_rows_open_and_scroll_without_a_pause() {
    let rows = (0..1_000_000)
        .map(|n| row(&format!("d{:03}/e{:02}/f{n}", n % 1000, n / 1000 % 50), Word::Differs(0)));
    let mut model = Model::default();
    model.set_rows(rows.collect());
    assert_eq!(model.lines.len(), 1000);
    model.open_here();
    model.scroll(20);
    assert_eq!((model.lines.len(), model.top), (1050, 0));
    model.move_by(500);
    model.scroll(20);
    assert_eq!(model.top, 481);
}
