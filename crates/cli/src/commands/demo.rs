//! `demo`: the whole round on made-up data, with the real commands.
//!
//! The Fenmere Wetland Station is made up. Its files come from a fixed seed, so every demo shows the same.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, SystemTime};

use crate::context::{Context, print_text};
use crate::failure::{Failure, Halt, Outcome};
use crate::text::{BOLD, DIM, styled};

#[cfg(feature = "standins")]
use reedhook_standins::{Behaviour, Kind, Settings, Standin};

/// The demo's archive lives as long as the demo, on this machine.
const ARCHIVE_SECRET: &str = "marsh tit";

/// Shows the round in a new folder.
pub fn demo(context: &Context, folder: Option<PathBuf>) -> Outcome {
    let folder = new_folder(folder)?;
    let stage = Stage::new(context, folder)?;
    stage.play()
}

fn new_folder(wanted: Option<PathBuf>) -> Outcome<PathBuf> {
    let failed = |path: &Path, error: std::io::Error| {
        Failure::usage(format!("cannot make {}: {error}", path.display()))
    };
    if let Some(folder) = wanted {
        let folder = std::path::absolute(&folder).map_err(|error| failed(&folder, error))?;
        fs::create_dir(&folder).map_err(|error| failed(&folder, error))?;
        return Ok(folder);
    }
    let stamp = jiff::Timestamp::now().as_millisecond();
    let folder = std::env::temp_dir().join(format!("reedhook-demo-{stamp}"));
    fs::create_dir(&folder).map_err(|error| failed(&folder, error))?;
    Ok(folder)
}

/// The demo's folder, and the program that is shown.
struct Stage {
    folder: PathBuf,
    program: PathBuf,
    color: bool,
}

impl Stage {
    fn new(context: &Context, folder: PathBuf) -> Outcome<Stage> {
        let program =
            std::env::current_exe().map_err(|error| Failure::own_files("cannot find this program", error))?;
        let color = match context.global.color {
            crate::args::Color::Auto => {
                anstream::AutoStream::choice(&std::io::stdout()) != anstream::ColorChoice::Never
            }
            crate::args::Color::Always => true,
            crate::args::Color::Never => false,
        };
        Ok(Stage { folder, program, color })
    }

    fn play(&self) -> Outcome {
        self.narrate(
            "A day at the Fenmere Wetland Station: the station computer's folder is kept on a field drive.",
        );
        data::make(&self.folder)
            .map_err(|error| Failure::own_files("cannot make the demo's files", error))?;
        print_text(format!("Everything is in {}; nothing else is touched.\n", self.folder.display()));
        print_text(prompt(&format!("cd {}", self.folder.display())));
        print_text(prompt("export REEDHOOK_HOME=home"));

        self.narrate("A name for the drive, and a job: its kind, its two sides, what to leave out.");
        self.run(&["store", "add", "field-drive", "field-drive"])?;
        let job = [
            "job",
            "add",
            "fenmere",
            "mirror",
            "station",
            "@field-drive/station",
            "--exclude",
            "*.tmp",
            "--yes",
        ];
        self.run(&job)?;

        self.narrate("What takes part, and which line leaves the rest out?");
        self.run(&["job", "filter", "fenmere"])?;

        self.narrate("What would a run do? A preview touches nothing.");
        self.run(&["preview", "fenmere"])?;
        self.run(&["run", "fenmere"])?;

        self.afternoon()?;
        self.next_morning()?;
        self.both_sides()?;
        self.by_itself()?;
        #[cfg(feature = "standins")]
        self.archive()?;
        self.drive_scan()?;
        self.report()?;

        self.narrate("To try next, in the same folder:");
        for line in [
            "reedhook restore fenmere counts --into copies   # files back from the drive, into a folder",
            "reedhook undo fenmere last                      # the drive as it was before the last run",
            "reedhook job filter fenmere --try 'stills/'     # what one more line would do; nothing is saved",
            "reedhook review station/counts tablet/counts    # both side by side, full screen; q ends it",
            "reedhook compare station copies --html page.html # a page to hand over",
            "reedhook review inventory:FENFIELD-2            # what a drive held that is away; q ends it",
            "reedhook board                                  # everything alive on one screen; q ends it",
        ] {
            print_text(format!("  {line}"));
        }
        Ok(0)
    }

    /// The ranger has worked on.
    fn afternoon(&self) -> Outcome<()> {
        self.narrate("The ranger works on: a new count, a corrected one, a folder renamed, a map that is no longer needed.");
        data::rangers_afternoon(&self.folder)
            .map_err(|error| Failure::own_files("cannot change the demo's files", error))?;
        self.narrate("What differs now? Counted by folder, on both sides; nothing is touched.");
        self.run_to(1, &["compare", "fenmere", "--counts"])?;
        self.run(&["preview", "fenmere"])?;
        self.run(&["run", "fenmere", "--yes"])?;
        self.run(&["run", "fenmere"])
    }

    /// Looking things up, and bringing one back.
    fn next_morning(&self) -> Outcome<()> {
        self.narrate("The next morning: what ran, and what exactly did the second run do?");
        self.run(&["history", "fenmere"])?;
        self.run(&["history", "fenmere", "2"])?;

        self.narrate("The map was needed after all. Its kept copy is on the drive; one copy brings it back.");
        self.run(&["kept", "list", "fenmere", "2"])?;
        self.bring_back()?;
        self.run(&["run", "fenmere"])?;

        self.narrate("Is it all there? Every file on both sides is read whole and compared.");
        self.run(&["verify", "fenmere"])
    }

    /// Two folders that are both worked on.
    fn both_sides(&self) -> Outcome<()> {
        let changed = |error| Failure::own_files("cannot change the demo's files", error);
        self.narrate(
            "A ranger's tablet and the station's share are both worked on: a two-way job keeps them alike.",
        );
        self.run(&["job", "add", "tablet", "two-way", "tablet", "share", "--yes"])?;
        self.run(&["run", "tablet"])?;

        self.narrate(
            "Work goes on at both: a count is corrected on each side, a sheet that is removed here is changed there.",
        );
        data::both_work_on(&self.folder).map_err(changed)?;
        self.run(&["preview", "tablet"])?;
        self.run(&["why", "tablet", data::REVIVED])?;
        self.run_to(4, &["run", "tablet"])?;

        self.narrate("Only the sheet that both have corrected is held. Who is right?");
        self.run_to(4, &["conflicts", "tablet"])?;
        self.run(&["settle", "tablet", data::DISPUTED, "--keep", "both"])?;
        self.run(&["run", "tablet"])
    }

    /// A change that is carried while the service runs.
    fn by_itself(&self) -> Outcome<()> {
        self.narrate("A job that somebody has to remember is no backup: this one runs every evening, and when something has changed.");
        self.run(&["when", "fenmere", "set", "daily 18:00", "on change after 1s"])?;
        self.run(&["when", "next", "--count", "3"])?;
        self.narrate("While the service runs, the ranger saves a count. A second later it is on the drive.");
        print_text(format!("\n{}", prompt("reedhook tend &")));
        let failed = |error: std::io::Error| Failure::own_files("cannot run the service", error);
        let mut service = self.command(&["tend"]).spawn().map_err(failed)?;
        // Everything is looked at once first; then the folders are watched.
        std::thread::sleep(Duration::from_millis(1500));
        let count = "counts/heron-island/evening.csv";
        let line = "hour,species,count\n19:00,heron,7\n";
        print_text(format!("\n{}", prompt(&format!("echo … > station/{count}"))));
        fs::write(self.folder.join("station").join(count), line).map_err(failed)?;
        let there = self.folder.join("field-drive/station").join(count);
        let begun = std::time::Instant::now();
        while !there.exists() && begun.elapsed() < Duration::from_secs(20) {
            std::thread::sleep(Duration::from_millis(20));
        }
        // What came of it is told when it is written down.
        std::thread::sleep(Duration::from_millis(500));
        let stopped = self.run(&["tend", "stop"]);
        let ended = service.wait().map_err(failed);
        stopped?;
        match ended?.success() && there.exists() {
            true => Ok(()),
            false => Err(Failure {
                halt: Halt::Stopped,
                ..Failure::own_files("the demo did not work", "the change was not carried")
            }),
        }
    }

    /// Drives that are away, and what they hold.
    fn drive_scan(&self) -> Outcome<()> {
        self.narrate("Years later there are drives in a cupboard. What runs have seen of this one is noted; of another one there is a listing.");
        let failed = |error: std::io::Error| Failure::own_files("cannot put the drive away", error);
        fs::write(self.folder.join("fenfield-2.txt"), data::LISTING).map_err(failed)?;
        print_text(format!(
            "\n{}",
            prompt("cat fenfield-2.txt      # find DIR -printf '%y %s %T@ %P\\n', on another machine")
        ));
        print_text(data::LISTING.trim_end());
        self.run(&["inventory", "import", "fenfield-2.txt", "--name", "FENFIELD-2"])?;
        let (drive, away) = (self.folder.join("field-drive"), self.folder.join("in-the-cupboard"));
        print_text(format!("\n{}", prompt("mv field-drive in-the-cupboard")));
        fs::rename(&drive, &away).map_err(failed)?;
        let looked = self.look_for_things();
        fs::rename(&away, &drive).map_err(failed)?;
        looked?;
        print_text(format!("\n{}", prompt("mv in-the-cupboard field-drive")));
        Ok(())
    }

    fn look_for_things(&self) -> Outcome<()> {
        self.run(&["inventory", "list"])?;
        self.run(&["inventory", "find", "reedbed", "2031-05-09"])?;
        self.run_to(3, &["restore", "fenmere", "maps/hide-access.svg"])?;
        self.run_to(1, &["compare", "station", "inventory:field-drive/station"])
    }

    /// What all of it came to, also as a page.
    fn report(&self) -> Outcome<()> {
        self.narrate("Who was not there wants to know: did it run, did it work, what is to be done?");
        self.run(&["report", "--since", "1d", "--html", "report.html"])
    }

    /// Nest-camera stills go to an archive far away, over a connection that drops once.
    #[cfg(feature = "standins")]
    fn archive(&self) -> Outcome<()> {
        let settings = Settings {
            folder: self.folder.join("archive"),
            port: 0,
            user: "ranger".to_owned(),
            secret: ARCHIVE_SECRET.to_owned(),
            behaviour: Behaviour {
                round_trip: Duration::from_millis(20),
                drop_after: Some(4_000_000),
                drops: 1,
                ..Behaviour::default()
            },
        };
        let archive = Standin::start(Kind::WebDav, settings)
            .map_err(|error| Failure::own_files("the archive's stand-in does not start", error))?;
        self.narrate(
            "The nest-camera stills also go to an archive: here a stand-in, 20 ms away, whose connection drops once on the way.",
        );
        print_text(format!("\n{}", prompt("export ARCHIVE_SECRET=…")));
        let location = archive.location("");
        self.run(&[
            "store",
            "add",
            "archive",
            &location,
            "--user",
            "ranger",
            "--secret",
            "env ARCHIVE_SECRET",
        ])?;
        self.run(&["store", "check", "archive", "--write"])?;
        self.run(&["job", "add", "stills", "mirror", "station/stills", "@archive/stills", "--yes"])?;
        self.run(&["run", "stills"])?;
        let times = if archive.dropped() == 1 { "once" } else { "not at all" };
        print_text(format!("  (The connection dropped {times}; what was underway was sent again.)"));
        self.run(&["run", "stills"])
    }

    fn narrate(&self, text: &str) {
        print_text(format!("\n{}", styled(BOLD, text)));
    }

    /// Shows a command line, then carries it out with this program.
    fn run(&self, words: &[&str]) -> Outcome<()> {
        self.run_to(0, words)
    }

    /// The same for a command that ends with another code: 4 while conflicts are held.
    fn run_to(&self, code: i32, words: &[&str]) -> Outcome<()> {
        let shown: Vec<String> = words.iter().map(|word| quoted(word)).collect();
        print_text(format!("\n{}", prompt(&format!("reedhook {}", shown.join(" ")))));
        let status = self
            .command(words)
            .status()
            .map_err(|error| Failure::own_files("cannot run this program", error))?;
        if status.code() == Some(code) {
            return Ok(());
        }
        Err(Failure { halt: Halt::Stopped, ..Failure::own_files("the demo did not work", status) })
    }

    fn command(&self, words: &[&str]) -> Command {
        let mut command = Command::new(&self.program);
        command
            .args(words)
            .args(["--color", if self.color { "always" } else { "never" }])
            .current_dir(&self.folder)
            .env("REEDHOOK_HOME", "home")
            .env("ARCHIVE_SECRET", ARCHIVE_SECRET)
            // The user's own folder is not the demo's: nothing in it is read or shown.
            .env_remove("HOME");
        command
    }

    fn bring_back(&self) -> Outcome<()> {
        let failed = |error: std::io::Error| Failure::own_files("cannot bring the map back", error);
        let kept = self.folder.join("field-drive/station/.reedhook/kept");
        let runs = fs::read_dir(&kept).map_err(failed)?.flatten();
        let map = runs.map(|run| run.path().join(data::REMOVED_MAP)).find(|path| path.is_file());
        let map = map.ok_or_else(|| failed(std::io::ErrorKind::NotFound.into()))?;
        let target = Path::new("station").join(data::REMOVED_MAP);
        let shown = map.strip_prefix(&self.folder).unwrap_or(&map);
        print_text(format!("\n{}", prompt(&format!("cp -p {} {}", shown.display(), target.display()))));
        fs::copy(&map, self.folder.join(&target)).map_err(failed)?;
        let found = fs::metadata(&map).map_err(failed)?;
        let copy = fs::File::options().write(true).open(self.folder.join(&target)).map_err(failed)?;
        copy.set_modified(found.modified().map_err(failed)?).map_err(failed)?;
        print_text(format!("  {} is back, {} whole.", target.display(), crate::text::bytes(found.len())));
        Ok(())
    }
}

fn prompt(line: &str) -> String {
    format!("{} {line}", styled(DIM, "$"))
}

fn quoted(word: &str) -> String {
    if word.contains(['*', ' ']) { format!("'{word}'") } else { word.to_owned() }
}

/// The station's files.
mod data {
    use super::{Duration, Path, SystemTime, fs};
    use std::io;

    /// A map that the ranger removes.
    pub const REMOVED_MAP: &str = "maps/old-boardwalk.svg";
    /// A sheet that is corrected on both sides.
    pub const DISPUTED: &str = "counts/heron-island.csv";
    /// A sheet that is removed on one side and changed on the other.
    pub const REVIVED: &str = "counts/west-scrape.csv";

    const SITES: [&str; 4] = ["north-reedbed", "west-scrape", "heron-island", "mill-channel"];
    const BIRDS: [&str; 8] =
        ["grey heron", "bittern", "reed warbler", "coot", "lapwing", "teal", "marsh harrier", "kingfisher"];

    /// 2031-05-01 06:00:00 UTC: the first count of the season.
    const SEASON: u64 = 1_935_381_600;

    /// Numbers from a fixed seed (SplitMix64, Steele, Lea & Flood 2014).
    struct Seeded(u64);

    impl Seeded {
        fn next(&mut self) -> u64 {
            self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
            let mut z = self.0;
            z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
            z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
            z ^ (z >> 31)
        }

        fn below(&mut self, limit: u64) -> u64 {
            self.next() % limit
        }
    }

    /// What another machine says of a drive that was never here.
    pub const LISTING: &str = "\
d 4096 1935000000.0 counts
f 902 1935012000.0 counts/north-reedbed-2031-05-09.csv
f 733 1934012000.0 counts/north-reedbed-2031-04-28.csv
f 2210400 1933500000.0 counts/all-of-2030.ods
";

    /// Writes the station's folder and an empty drive.
    pub fn make(folder: &Path) -> io::Result<()> {
        let station = folder.join("station");
        let mut chance = Seeded(20_310_504);
        for (number, site) in SITES.iter().enumerate() {
            for day in 1..=9 {
                let path = format!("counts/{site}/2031-05-{day:02}.csv");
                write(&station, &path, count_sheet(&mut chance).as_bytes(), day * 24 + number as u64)?;
                let path = format!("levels/{site}/2031-05-{day:02}.csv");
                write(&station, &path, levels(&mut chance).as_bytes(), day * 24 + 12)?;
            }
        }
        for nest in 1..=3 {
            for still in 0..8 {
                let size = 250_000 + chance.below(350_000) as usize;
                let path = format!("stills/nest-{nest}/still-{still:03}.jpg");
                write(&station, &path, &picture(&mut chance, size), still * 3 + nest)?;
            }
        }
        for map in ["north-path", "hide-access", "old-boardwalk"] {
            write(&station, &format!("maps/{map}.svg"), map_drawing(&mut chance).as_bytes(), 2)?;
        }
        write(&station, "rota.txt", b"Mon  Imke, Tor\nTue  Tor, Salome\nWed  Imke\nThu  Salome, Imke\n", 5)?;
        write(&station, "counts/heron-island/unsaved.tmp", b"half a count", 200)?;
        write(&station, "stills/Thumbs.db", &[0; 4096], 200)?;
        tablet_and_share(folder, &mut chance)?;
        fs::create_dir_all(folder.join("field-drive"))
    }

    /// A tablet with counts, and a share with the rota and one sheet that is the same.
    fn tablet_and_share(folder: &Path, chance: &mut Seeded) -> io::Result<()> {
        let (tablet, share) = (folder.join("tablet"), folder.join("share"));
        for (number, site) in SITES.iter().enumerate() {
            let sheet = count_sheet(chance);
            write(&tablet, &format!("counts/{site}.csv"), sheet.as_bytes(), 210 + number as u64)?;
            if number == 0 {
                write(&share, &format!("counts/{site}.csv"), sheet.as_bytes(), 210)?;
            }
        }
        write(&share, "rota.txt", b"Mon  Imke, Tor\nTue  Tor, Salome\n", 205)?;
        write(&share, "hides.txt", b"north hide: key at the gate\n", 206)
    }

    /// Edits on both sides: some apart, one sheet on both, one removed here and changed there.
    pub fn both_work_on(folder: &Path) -> io::Result<()> {
        let (tablet, share) = (folder.join("tablet"), folder.join("share"));
        let corrected = |hour: &str, count: u32| -> io::Result<String> {
            let sheet = fs::read_to_string(tablet.join(DISPUTED))?;
            let lines =
                sheet.lines().map(|line| match line.starts_with(hour) && line.contains("grey heron") {
                    true => format!("{hour}:00,grey heron,{count}\n"),
                    false => format!("{line}\n"),
                });
            Ok(lines.collect())
        };
        let (ours, theirs) = (corrected("06", 41)?, corrected("06", 14)?);
        write(&tablet, DISPUTED, ours.as_bytes(), 230)?;
        write(&share, DISPUTED, theirs.as_bytes(), 232)?;
        let mut chance = Seeded(11);
        write(&tablet, REVIVED, count_sheet(&mut chance).as_bytes(), 231)?;
        fs::remove_file(share.join(REVIVED))?;
        write(&tablet, "notes/otter.txt", b"otter at the mill channel, 06:40\n", 233)?;
        write(&share, "rota.txt", b"Mon  Imke, Tor\nTue  Salome\n", 234)?;
        fs::remove_file(tablet.join("hides.txt"))
    }

    /// What changes between the two runs.
    pub fn rangers_afternoon(folder: &Path) -> io::Result<()> {
        let station = folder.join("station");
        let mut chance = Seeded(7);
        write(&station, "counts/heron-island/2031-05-10.csv", count_sheet(&mut chance).as_bytes(), 240)?;
        write(&station, "counts/mill-channel/2031-05-09.csv", count_sheet(&mut chance).as_bytes(), 241)?;
        write(&station, "rota.txt", b"Mon  Imke, Tor\nTue  Tor\nWed  Imke, Salome\nThu  Salome\n", 242)?;
        fs::rename(station.join("levels/mill-channel"), station.join("levels/mill-race"))?;
        fs::remove_file(station.join(REMOVED_MAP))
    }

    fn write(station: &Path, path: &str, content: &[u8], hours: u64) -> io::Result<()> {
        let path = station.join(path);
        if let Some(parent) = path.parent() {
            fs::create_dir_all(parent)?;
        }
        fs::write(&path, content)?;
        let time = SystemTime::UNIX_EPOCH + Duration::from_secs(SEASON + hours * 3600);
        fs::File::options().write(true).open(&path)?.set_modified(time)
    }

    fn count_sheet(chance: &mut Seeded) -> String {
        let mut sheet = String::from("hour,species,count\n");
        for hour in 5..11 {
            for bird in BIRDS {
                sheet.push_str(&format!("{hour:02}:00,{bird},{}\n", chance.below(30)));
            }
        }
        sheet
    }

    fn levels(chance: &mut Seeded) -> String {
        let mut readings = String::from("time,centimetres\n");
        let mut level = 140 + chance.below(20);
        for quarter in 0..96 {
            level = (level + chance.below(3)).saturating_sub(1);
            readings.push_str(&format!("{:02}:{:02},{level}\n", quarter / 4, quarter % 4 * 15));
        }
        readings
    }

    /// Bytes that begin like a picture and compress as badly.
    fn picture(chance: &mut Seeded, size: usize) -> Vec<u8> {
        let mut bytes = vec![0xff, 0xd8, 0xff, 0xe0];
        while bytes.len() < size {
            bytes.extend_from_slice(&chance.next().to_le_bytes());
        }
        bytes
    }

    fn map_drawing(chance: &mut Seeded) -> String {
        let mut drawing = String::from(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 400 300\">\n<path d=\"M0 150",
        );
        for x in 1..40 {
            drawing.push_str(&format!(" L{} {}", x * 10, 100 + chance.below(100)));
        }
        drawing.push_str("\" fill=\"none\" stroke=\"#276\"/>\n</svg>\n");
        drawing
    }
}
