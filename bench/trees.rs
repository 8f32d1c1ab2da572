//! Trees from a fixed seed.

use std::fs;
use std::path::Path;

/// Numbers from a fixed seed (SplitMix64, Steele, Lea & Flood 2014).
pub struct Seeded(pub u64);

impl Seeded {
    /// The next number.
    pub fn draw(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    fn bytes(&mut self, length: usize) -> Vec<u8> {
        let mut bytes: Vec<u8> = (0..length.div_ceil(8)).flat_map(|_| self.draw().to_le_bytes()).collect();
        bytes.truncate(length);
        bytes
    }
}

fn write(path: &Path, content: &[u8]) {
    fs::write(path, content).expect("a file");
}

fn folder(path: &Path) {
    fs::create_dir_all(path).expect("a folder");
}

/// A hundred files to a folder, 100 to 4000 bytes each.
pub fn small(root: &Path, count: usize) {
    let mut chance = Seeded(1);
    let content = chance.bytes(4096);
    for number in 0..count {
        let place = root.join(format!("d{:03}/s{:02}", number / 2000, number / 100 % 20));
        if number % 100 == 0 {
            folder(&place);
        }
        let size = 100 + chance.draw() % 3900;
        write(&place.join(format!("f{number:07}.csv")), &content[..size as usize]);
    }
}

/// One folder with everything in it.
pub fn wide(root: &Path, count: usize) {
    folder(root);
    let mut chance = Seeded(2);
    for number in 0..count {
        write(
            &root.join(format!("f{number:07}.csv")),
            &number.to_le_bytes().repeat(1 + (chance.draw() % 60) as usize),
        );
    }
}

/// Folders in folders, a few files in each.
pub fn deep(root: &Path, chains: usize, levels: usize) {
    for chain in 0..chains {
        let mut place = root.join(format!("c{chain:02}"));
        for level in 0..levels {
            place.push(format!("l{level}"));
            folder(&place);
            for number in 0..3 {
                write(&place.join(format!("f{number}")), &level.to_le_bytes());
            }
        }
    }
}

/// Pictures and recordings: 2 to 8 MiB each.
pub fn media(root: &Path, count: usize) {
    folder(root);
    let mut chance = Seeded(4);
    let content = chance.bytes(8 << 20);
    for number in 0..count {
        let size = (2 << 20) + chance.draw() % (6 << 20);
        write(&root.join(format!("still{number:04}.jpg")), &content[..size as usize]);
    }
}

/// One large file.
pub fn big(root: &Path, mib: usize) {
    use std::io::Write;
    folder(root);
    let block = Seeded(3).bytes(1 << 20);
    let mut file = fs::File::create(root.join("one.bin")).expect("a file");
    (0..mib).for_each(|_| file.write_all(&block).expect("room"));
}

/// One long file that is mostly holes: a MiB of data in every 32.
pub fn sparse(root: &Path, mib: u64) {
    use std::os::unix::fs::FileExt;
    folder(root);
    let block = Seeded(5).bytes(1 << 20);
    let file = fs::File::create(root.join("survey.raw")).expect("a file");
    file.set_len(mib << 20).expect("room");
    (0..mib).step_by(32).for_each(|at| file.write_all_at(&block, at << 20).expect("room"));
}

/// Gives every hundredth file of a tree made by [`small`] other content.
pub fn change_one_in_a_hundred(root: &Path, count: usize, round: usize) {
    for number in (0..count).step_by(100) {
        let place = root.join(format!("d{:03}/s{:02}/f{number:07}.csv", number / 2000, number / 100 % 20));
        write(&place, format!("changed {round}").as_bytes());
    }
}
