//! Jobs: what they are, what a run of one would do, what has to be clear before it does it, and what came of it.
//!
//! A [`Desk`](desk::Desk) is what all of it works at. [`look`](look::look) opens a job's places and says what a run would do, a
//! [`Prospect`](clear::Prospect); clearing it gives a [`Cleared`](clear::Cleared), and a [`Run`](run::Run) carries that out. Nothing here
//! prints, reads a terminal or knows exit codes: a command line, a service and a full-screen view stand on it alike.

pub mod alignment;
pub mod clear;
pub mod desk;
pub mod failure;
pub mod held;
pub mod home;
pub mod jobfile;
pub mod lines;
pub mod logline;
pub mod logs;
pub mod look;
pub mod places;
pub mod polite;
pub mod reach;
pub mod recognise;
pub mod restore;
pub mod reverse;
pub mod run;
pub mod secrets;
pub mod two_way;
pub mod undo;
pub mod verify;
pub mod words;
