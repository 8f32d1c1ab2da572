//! Jobs: what they are, what a run of one would do, what has to be clear before it does it, and what came of it.
//!
//! A [`Desk`](desk::Desk) is what all of it works at. [`look`](look::look) opens a job's places and says what a run would do, a
//! [`ProvedPlan`](proved::ProvedPlan); clearing it gives an [`ApprovedRun`](clear::ApprovedRun), and [`run_job`](run_job::run_job) carries that out. Nothing here
//! prints, reads a terminal or knows exit codes: a command line, a service and a full-screen view stand on it alike.
//!
//! ```
//! use reedhook_core::job::Kind;
//! use reedhook_jobs::desk::Desk;
//! use reedhook_jobs::home::Home;
//! use reedhook_jobs::jobfile::{Job, JobKeys};
//! use reedhook_jobs::look::look;
//! use reedhook_jobs::preview::Preview;
//! use reedhook_jobs::run::Sort;
//! use reedhook_jobs::settings::Settings;
//! use reedhook_jobs::world::World;
//! use reedhook_jobs::run_job::{NoMessenger, Origin, RunRequest, Surroundings, run_job};
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! # let folder = tempfile::tempdir()?;
//! # let side = |name: &str| vec![folder.path().join(name).display().to_string()];
//! # std::fs::create_dir(folder.path().join("station"))?;
//! # std::fs::write(folder.path().join("station/heron.csv"), "heron,3")?;
//! let world = World::plain();
//! let home = Home::find(Some(&folder.path().join("home")), &world)?;
//! let desk = Desk::new(home, Settings::default(), world);
//! let (from, to) = (side("station"), side("drive"));
//! let job = Job::new("counts", JobKeys { kind: Some(Kind::Mirror), from, to, ..JobKeys::default() })?;
//!
//! let request = RunRequest {
//!     job: &job,
//!     sort: Sort::Job,
//!     origin: Origin::Asked,
//!     look: &|| look(&desk, &job),
//!     lifted: &[],
//!     consent: &mut |_: &Preview, _| Ok(()),
//! };
//! let surroundings = Surroundings::with(std::sync::Arc::new(NoMessenger));
//! let (_, result) = run_job(&desk, &surroundings, request, |_, _| ())?;
//! assert_eq!(result.counts.added, 1);
//! # Ok(())
//! # }
//! ```

pub mod address;
pub mod alignment;
pub mod asking;
pub mod atomic_file;
pub mod both;
pub mod capabilities;
pub mod clear;
pub mod compare;
mod depth;
pub mod desk;
pub mod due;
pub mod failure;
pub mod finally;
pub mod home;
pub mod hooks;
pub mod inventory;
pub mod jobfile;
pub mod lines;
pub mod logline;
pub mod logs;
pub mod look;
pub mod low_priority;
pub mod neighbours;
pub mod notify;
pub mod observer;
pub mod open;
pub mod ownership;
pub mod places;
pub mod preview;
pub mod proved;
pub mod reach;
pub mod recognise;
pub mod restore;
pub mod reverse;
pub mod run;
pub mod run_job;
pub mod saved;
pub mod scan;
pub mod secrets;
pub mod settings;
pub mod tally;
pub mod trying;
pub mod two_way;
pub mod undo;
pub mod verify;
pub mod words;
pub mod world;
