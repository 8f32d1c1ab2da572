//! What is reviewed, as data: rows, the folders that are open, where the cursor is, and what was chosen for each row. No terminal and
//! no store comes near it, so it is tested by itself.
//!
//! Rows are what differs (or would be done), sorted by path; everything below a folder is one stretch of them, found by bisection.
//! So a tree of a million entries costs nothing until a folder of it is opened, and then what that folder shows.

use std::collections::{BTreeSet, HashMap, HashSet};

use reedhook_core::compare::DiffState;
use reedhook_core::entry::{EntryKind, Side};
use reedhook_core::path::{Name, RelPath};
use reedhook_core::run::Done;
use reedhook_core::walk::comparing::Face;

/// What is said of a row, in a word.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Word {
    Differs(u8),
    Deed(Done),
    Conflict,
    Same,
    /// Nobody has looked yet.
    Unknown,
}

impl Word {
    pub fn of_state(state: DiffState) -> Word {
        Word::Differs(DiffState::ALL.iter().position(|one| *one == state).unwrap_or_default() as u8)
    }

    pub fn state(self) -> Option<DiffState> {
        match self {
            Word::Differs(at) => DiffState::ALL.get(usize::from(at)).copied(),
            _ => None,
        }
    }

    pub fn text(self) -> &'static str {
        match self {
            Word::Differs(_) => match self.state() {
                Some(DiffState::OnlyLeft) => "only left",
                Some(DiffState::OnlyRight) => "only right",
                Some(DiffState::LeftNewer) => "left newer",
                Some(DiffState::RightNewer) => "right newer",
                Some(DiffState::Differs) => "differs",
                Some(DiffState::Moved) => "moved",
                Some(DiffState::Kind) | None => "other kind",
            },
            Word::Deed(Done::Metadata) => "adjust",
            Word::Deed(Done::FolderMade) => "make folder",
            Word::Deed(Done::FolderRemoved) => "remove folder",
            Word::Deed(done) => done.as_str(),
            Word::Conflict => "conflict",
            Word::Same => "same",
            Word::Unknown => "",
        }
    }
}

/// Something that differs, or would be done.
#[derive(Debug, Clone, PartialEq)]
pub struct Row {
    pub path: RelPath,
    pub word: Word,
    pub left: Option<Face>,
    pub right: Option<Face>,
    /// Of what moved: where it is at the other side.
    pub elsewhere: Option<RelPath>,
    /// Files and links that it stands for; 1 for a folder of which only the folder itself is meant.
    pub items: u64,
    /// The destination of the job that it belongs to.
    pub destination: usize,
    /// Who wins when it goes the other way, where it can.
    pub other: Option<Side>,
}

impl Row {
    pub fn is_folder(&self) -> bool {
        let folder = |face: Option<Face>| face.is_none_or(|face| face.kind == EntryKind::Folder);
        folder(self.left) && folder(self.right)
    }

    pub fn size(&self) -> u64 {
        let size = |face: Option<Face>| face.map_or(0, |face| face.size);
        size(self.left).max(size(self.right))
    }
}

/// What is to be done about a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Choice {
    #[default]
    AsPlanned,
    Leave,
    /// The left version wins a conflict.
    Left,
    /// The right version wins a conflict.
    Right,
    /// It goes the other way: the change is taken back where it was made.
    Other,
}

impl Choice {
    pub fn text(self) -> &'static str {
        match self {
            Choice::AsPlanned => "",
            Choice::Leave => "leave",
            Choice::Left => "left wins",
            Choice::Right => "right wins",
            Choice::Other => "other way",
        }
    }
}

/// How many files and bytes of each word are in a folder.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Sums(pub Vec<(Word, u64, u64)>);

impl Sums {
    fn add(&mut self, row: &Row) {
        match self.0.iter_mut().find(|(word, ..)| *word == row.word) {
            Some((_, items, bytes)) => (*items, *bytes) = (*items + row.items, *bytes + row.size()),
            None => {
                self.0.push((row.word, row.items, row.size()));
                self.0.sort();
            }
        }
    }
}

/// What a folder holds that nobody has to say anything about, as it was listed.
#[derive(Debug, Clone, PartialEq)]
pub struct Listed {
    pub name: Name,
    pub left: Option<Face>,
    pub right: Option<Face>,
    pub word: Word,
}

/// A line of the view.
#[derive(Debug, Clone, PartialEq)]
pub enum ReviewLine {
    /// A folder that holds rows, or was listed; with its own row where it has one.
    Folder {
        path: RelPath,
        depth: usize,
        open: bool,
        row: Option<usize>,
        sums: Sums,
        /// Rows in it that are left, as a person wants it.
        left: usize,
    },
    /// A row that is no folder.
    Entry { row: usize, depth: usize },
    /// What is the same.
    Same { path: RelPath, depth: usize, listed: Listed },
    /// A folder that is being listed.
    Waiting { depth: usize },
}

impl ReviewLine {
    pub fn depth(&self) -> usize {
        match self {
            ReviewLine::Folder { depth, .. }
            | ReviewLine::Entry { depth, .. }
            | ReviewLine::Same { depth, .. }
            | ReviewLine::Waiting { depth } => *depth,
        }
    }
}

/// What is reviewed.
#[derive(Debug, Default)]
pub struct Model {
    rows: Vec<Row>,
    /// The rows whose words are shown.
    shown: Vec<usize>,
    hidden: BTreeSet<Word>,
    /// How many files of each word there are.
    all: Sums,
    /// Whether what is the same is shown, too.
    pub with_same: bool,
    open: HashSet<RelPath>,
    listed: HashMap<RelPath, Option<Vec<Listed>>>,
    sums: HashMap<RelPath, Sums>,
    choices: HashMap<(usize, RelPath), Choice>,
    pub lines: Vec<ReviewLine>,
    pub cursor: usize,
    pub top: usize,
}

impl Model {
    /// Shows these rows.
    pub fn set_rows(&mut self, mut rows: Vec<Row>) {
        rows.sort_by(|a, b| a.path.cmp(&b.path).then(a.destination.cmp(&b.destination)));
        self.all = Sums::default();
        rows.iter().for_each(|row| self.all.add(row));
        self.rows = rows;
        self.choices.clear();
        self.listed.clear();
        self.refilter();
    }

    pub fn rows(&self) -> &[Row] {
        &self.rows
    }

    /// The words that there are, with how many files of each.
    pub fn words(&self) -> Vec<(Word, u64, bool)> {
        self.all.0.iter().map(|(word, items, _)| (*word, *items, !self.hidden.contains(word))).collect()
    }

    /// Shows or hides the rows of the word at this place of [`Model::words`].
    pub fn toggle_word(&mut self, at: usize) {
        if let Some((word, ..)) = self.words().get(at)
            && !self.hidden.remove(word)
        {
            self.hidden.insert(*word);
        }
        self.refilter();
    }

    pub fn show_all_words(&mut self) {
        self.hidden.clear();
        self.refilter();
    }

    fn refilter(&mut self) {
        let visible = |at: &usize| !self.hidden.contains(&self.rows[*at].word);
        self.shown = (0..self.rows.len()).filter(visible).collect();
        self.sums.clear();
        self.rebuild();
    }

    /// The stretch of shown rows at and below a folder.
    fn stretch(&self, folder: &RelPath) -> std::ops::Range<usize> {
        let start = self.shown.partition_point(|at| self.rows[*at].path < *folder);
        let length = self.shown[start..].partition_point(|at| self.rows[*at].path.is_within(folder));
        start..start + length
    }

    fn sums_of(&mut self, folder: &RelPath) -> Sums {
        if let Some(known) = self.sums.get(folder) {
            return known.clone();
        }
        let mut sums = Sums::default();
        // The folder's own row is said beside its name.
        for at in self.shown[self.stretch(folder)].iter().filter(|at| self.rows[**at].path != *folder) {
            sums.add(&self.rows[*at]);
        }
        self.sums.insert(folder.clone(), sums.clone());
        sums
    }

    /// How many shown rows of a folder are left.
    fn left_in(&self, folder: &RelPath) -> usize {
        if self.choices.is_empty() {
            return 0;
        }
        let left = |at: &&usize| self.choice(&self.rows[**at]) == Choice::Leave;
        self.shown[self.stretch(folder)].iter().filter(left).count()
    }

    /// Builds the lines anew; the cursor stays on what it was on.
    pub fn rebuild(&mut self) {
        let was = self.lines.get(self.cursor).and_then(|line| self.path_of(line));
        let mut lines = Vec::new();
        self.build(&RelPath::root(), 0, &mut lines);
        self.lines = lines;
        let place =
            was.and_then(|was| self.lines.iter().position(|line| self.path_of(line).as_ref() == Some(&was)));
        self.cursor = place.unwrap_or(self.cursor).min(self.lines.len().saturating_sub(1));
    }

    fn build(&mut self, folder: &RelPath, depth: usize, lines: &mut Vec<ReviewLine>) {
        for (name, member) in self.members(folder) {
            let path = folder.join(&name);
            match member {
                Member::Folder(row) => {
                    let open = self.open.contains(&path);
                    let (sums, left) = (self.sums_of(&path), self.left_in(&path));
                    lines.push(ReviewLine::Folder { path: path.clone(), depth, open, row, sums, left });
                    if open {
                        self.build(&path, depth + 1, lines);
                    }
                }
                Member::Rows(rows) => {
                    lines.extend(rows.into_iter().map(|row| ReviewLine::Entry { row, depth }))
                }
                Member::Listed(listed) => lines.push(ReviewLine::Same { path, depth, listed }),
            }
        }
        if self.with_same && self.listed.get(folder).is_some_and(Option::is_none) {
            lines.push(ReviewLine::Waiting { depth });
        }
    }

    /// What a folder shows, by name: each folder below it once, whatever is in that.
    fn members(&self, folder: &RelPath) -> Vec<(Name, Member)> {
        let mut members: Vec<(Name, Member)> = Vec::new();
        let range = self.stretch(folder);
        let mut at = range.start;
        while at < range.end {
            let row = &self.rows[self.shown[at]];
            let Some(name) = row.path.below(folder).and_then(|below| Name::new(below.parts().next()?).ok())
            else {
                // The folder itself: a line above.
                at += 1;
                continue;
            };
            let path = folder.join(&name);
            let next = range.start.max(self.stretch(&path).end).max(at + 1);
            let own: Vec<usize> =
                self.shown[at..next].iter().copied().take_while(|row| self.rows[*row].path == path).collect();
            let deeper = own.len() < next - at;
            let as_folder = own.iter().copied().find(|row| self.rows[*row].is_folder());
            if deeper || as_folder.is_some() {
                members.push((name.clone(), Member::Folder(as_folder)));
            }
            let others: Vec<usize> = own.into_iter().filter(|row| Some(*row) != as_folder).collect();
            if !others.is_empty() {
                members.push((name, Member::Rows(others)));
            }
            at = next;
        }
        if self.with_same {
            self.add_listed(folder, &mut members);
        }
        members
    }

    fn add_listed(&self, folder: &RelPath, members: &mut Vec<(Name, Member)>) {
        let Some(Some(listed)) = self.listed.get(folder) else { return };
        let known: HashSet<Name> = members.iter().map(|(name, _)| name.clone()).collect();
        for one in listed.iter().filter(|one| !known.contains(&one.name)) {
            let folder = |face: Option<Face>| face.is_none_or(|face| face.kind == EntryKind::Folder);
            let member = match folder(one.left) && folder(one.right) {
                true => Member::Folder(None),
                false => Member::Listed(one.clone()),
            };
            members.push((one.name.clone(), member));
        }
        members.sort_by(|a, b| a.0.cmp(&b.0));
    }

    /// The path that a line stands for.
    pub fn path_of(&self, line: &ReviewLine) -> Option<RelPath> {
        match line {
            ReviewLine::Folder { path, .. } | ReviewLine::Same { path, .. } => Some(path.clone()),
            ReviewLine::Entry { row, .. } => self.rows.get(*row).map(|row| row.path.clone()),
            ReviewLine::Waiting { .. } => None,
        }
    }

    pub fn here(&self) -> Option<&ReviewLine> {
        self.lines.get(self.cursor)
    }

    /// The row under the cursor.
    pub fn row_here(&self) -> Option<&Row> {
        match self.here()? {
            ReviewLine::Entry { row, .. } | ReviewLine::Folder { row: Some(row), .. } => self.rows.get(*row),
            _ => None,
        }
    }

    pub fn move_by(&mut self, lines: isize) {
        let last = self.lines.len().saturating_sub(1);
        self.cursor = self.cursor.saturating_add_signed(lines).min(last);
    }

    /// Opens the folder under the cursor; returns its path when it has to be listed first.
    pub fn open_here(&mut self) -> Option<RelPath> {
        let Some(ReviewLine::Folder { path, open: false, .. }) = self.here() else { return None };
        let path = path.clone();
        self.open.insert(path.clone());
        let wanted = self.wanted(&path);
        self.rebuild();
        wanted
    }

    /// Folds the folder under the cursor, or goes to the one that the line is in.
    pub fn fold_here(&mut self) {
        match self.here().cloned() {
            Some(ReviewLine::Folder { path, open: true, .. }) => {
                self.open.remove(&path);
                self.rebuild();
            }
            Some(line) => {
                let above = (0..self.cursor).rev().find(|at| self.lines[*at].depth() < line.depth());
                self.cursor = above.unwrap_or(self.cursor);
            }
            None => {}
        }
    }

    /// The folders that have to be listed before what is the same can be shown.
    pub fn show_same(&mut self, show: bool) -> Vec<RelPath> {
        self.with_same = show;
        let open: Vec<RelPath> = std::iter::once(RelPath::root()).chain(self.open.iter().cloned()).collect();
        let wanted = open.iter().filter_map(|folder| self.wanted(folder)).collect();
        self.rebuild();
        wanted
    }

    fn wanted(&mut self, folder: &RelPath) -> Option<RelPath> {
        if !self.with_same || self.listed.contains_key(folder) {
            return None;
        }
        self.listed.insert(folder.clone(), None);
        Some(folder.clone())
    }

    /// What a folder holds was listed.
    pub fn take_listing(&mut self, folder: RelPath, listed: Vec<Listed>) {
        self.listed.insert(folder, Some(listed));
        self.rebuild();
    }

    /// Goes to the next row (or the one before) whose path holds this text, whatever its case; opens the folders that it is in.
    pub fn search(&mut self, text: &str, forward: bool) -> bool {
        let text = text.to_lowercase();
        let here = self.here().and_then(|line| self.path_of(line)).unwrap_or_default();
        let matches = |at: &usize| self.rows[*at].path.to_string().to_lowercase().contains(&text);
        let split = self.shown.partition_point(|at| self.rows[*at].path <= here);
        let found = if forward {
            let (before, after) = self.shown.split_at(split);
            after.iter().chain(before).copied().find(matches)
        } else {
            let split = self.shown.partition_point(|at| self.rows[*at].path < here);
            let (before, after) = self.shown.split_at(split);
            before.iter().rev().chain(after.iter().rev()).copied().find(matches)
        };
        let Some(path) = found.map(|at| self.rows[at].path.clone()) else { return false };
        self.open.extend(std::iter::successors(path.parent(), RelPath::parent));
        self.rebuild();
        let place = self.lines.iter().position(|line| self.path_of(line).as_ref() == Some(&path));
        self.cursor = place.unwrap_or(self.cursor);
        true
    }

    pub fn choice(&self, row: &Row) -> Choice {
        self.choices.get(&(row.destination, row.path.clone())).copied().unwrap_or_default()
    }

    /// Changes what is to be done about the line under the cursor: of a folder, about everything in it.
    pub fn choose_here(&mut self) {
        match self.here().cloned() {
            Some(ReviewLine::Entry { row, .. }) => {
                let row = &self.rows[row];
                let next = match (self.choice(row), row.word) {
                    (Choice::AsPlanned, Word::Conflict) => Choice::Left,
                    (Choice::Left, _) => Choice::Right,
                    (Choice::AsPlanned, _) => Choice::Leave,
                    (Choice::Leave, _) if row.other.is_some() => Choice::Other,
                    (Choice::Right | Choice::Leave | Choice::Other, _) => Choice::AsPlanned,
                };
                self.choices.insert((row.destination, row.path.clone()), next);
            }
            Some(ReviewLine::Folder { path, .. }) => self.choose_all(&path),
            _ => {}
        }
        self.rebuild();
    }

    /// Leaves everything in a folder, or, when all of it is left already, does it as planned. Conflicts are held either way.
    fn choose_all(&mut self, folder: &RelPath) {
        let rows: Vec<&Row> = self.shown[self.stretch(folder)].iter().map(|at| &self.rows[*at]).collect();
        let rows: Vec<&Row> = rows.into_iter().filter(|row| row.word != Word::Conflict).collect();
        let all = rows.iter().all(|row| self.choice(row) == Choice::Leave);
        let next = if all { Choice::AsPlanned } else { Choice::Leave };
        let keys: Vec<_> = rows.into_iter().map(|row| (row.destination, row.path.clone())).collect();
        self.choices.extend(keys.into_iter().map(|key| (key, next)));
    }

    /// Whether a person wants something of a destination to be left.
    pub fn leaves(&self) -> HashSet<(usize, RelPath)> {
        let is_left = |choice: &Choice| matches!(choice, Choice::Leave | Choice::Other);
        let left = self.choices.iter().filter(|(_, choice)| is_left(choice));
        left.map(|(key, _)| key.clone()).collect()
    }

    /// The conflicts that a person has settled in favour of a side.
    pub fn settled(&self, choice: Choice) -> Vec<RelPath> {
        let conflicts =
            self.rows.iter().filter(|row| row.word == Word::Conflict && self.choice(row) == choice);
        conflicts.map(|row| row.path.clone()).collect()
    }

    /// What goes the other way, so that this side wins.
    pub fn reversed(&self, winner: Side) -> Vec<RelPath> {
        let rows = self.rows.iter();
        let rows = rows.filter(|row| row.other == Some(winner) && self.choice(row) == Choice::Other);
        rows.map(|row| row.path.clone()).collect()
    }

    /// What a run would do now: how many files of each word.
    pub fn chosen(&self) -> Vec<(Word, u64)> {
        let mut sums = Sums::default();
        let done = |row: &&Row| self.choice(row) == Choice::AsPlanned && matches!(row.word, Word::Deed(_));
        self.rows.iter().filter(done).for_each(|row| sums.add(row));
        sums.0
            .into_iter()
            .filter(|(word, ..)| *word != Word::Deed(Done::Left))
            .map(|(word, items, _)| (word, items))
            .collect()
    }

    /// Keeps the cursor in a window of so many lines.
    pub fn scroll(&mut self, height: usize) {
        let height = height.max(1);
        self.top = self.top.min(self.cursor).max((self.cursor + 1).saturating_sub(height));
        self.top = self.top.min(self.lines.len().saturating_sub(height));
    }
}

enum Member {
    Folder(Option<usize>),
    Rows(Vec<usize>),
    Listed(Listed),
}

#[cfg(test)]
mod tests;
