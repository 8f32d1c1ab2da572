//! Fuzzing what reads foreign bytes: inputs are made from good ones by the mutations that find most faults (cut, doubled, spliced,
//! flipped bits, odd numbers, odd characters), and what fails is made smaller by proptest.
//!
//! A target runs for half a second in a usual test run, and for as many seconds as `REEDHOOK_FUZZ` says.

use std::time::{Duration, Instant};

use proptest::collection::vec;
use proptest::prelude::*;
use proptest::test_runner::{Config, RngSeed, TestCaseError, TestRunner};

/// What takes so long for an input of at most 128 KiB takes as long as it likes; a busy machine does not.
const TOO_LONG: Duration = Duration::from_secs(60);

/// One change to an input. Places are shares of its length, so that a change keeps its sense while others are taken away.
#[derive(Debug, Clone)]
enum Mutation {
    Flip(u16, u8),
    Cut(u16),
    Remove(u16, u16),
    Repeat(u16, u16, u8),
    Insert(u16, usize),
    Splice(usize, u16, u16),
    Bytes(u16, Vec<u8>),
}

/// What parsers stumble over: ends of ranges as text and as numbers, marks of formats, control characters.
const ODD: [&[u8]; 24] = [
    b"\xff\xff\xff\xff",
    b"\x7f\xff\xff\xff",
    b"\x00\x00\x00\x00",
    b"\xff\xff\xff\xff\xff\xff\xff\xff",
    b"-1",
    b"0",
    b"18446744073709551616",
    b"9223372036854775807",
    b"-9223372036854775808",
    b"99999999999999999999999999",
    b"../",
    b"/",
    b"\0",
    b"\n",
    b"\r\n",
    b"\"",
    b"\\",
    b"{",
    b"[[[[[[[[[[[[[[[[",
    b"<",
    b"&#x10ffff;",
    b"%00",
    b"\xed\xa0\x80",
    "\u{202e}\u{9b}\u{1b}[".as_bytes(),
];

fn mutation() -> impl Strategy<Value = Mutation> {
    prop_oneof![
        4 => (any::<u16>(), any::<u8>()).prop_map(|(at, bits)| Mutation::Flip(at, bits)),
        1 => any::<u16>().prop_map(Mutation::Cut),
        2 => (any::<u16>(), any::<u16>()).prop_map(|(at, length)| Mutation::Remove(at, length)),
        2 => (any::<u16>(), any::<u16>(), 1..40_u8).prop_map(|(at, length, times)| Mutation::Repeat(at, length, times)),
        4 => (any::<u16>(), 0..ODD.len()).prop_map(|(at, odd)| Mutation::Insert(at, odd)),
        2 => (any::<usize>(), any::<u16>(), any::<u16>()).prop_map(|(seed, at, to)| Mutation::Splice(seed, at, to)),
        1 => (any::<u16>(), vec(any::<u8>(), 0..40)).prop_map(|(at, bytes)| Mutation::Bytes(at, bytes)),
    ]
}

fn place(share: u16, length: usize) -> usize {
    length * usize::from(share) / usize::from(u16::MAX)
}

impl Mutation {
    fn apply(&self, input: &mut Vec<u8>, seeds: &[Vec<u8>]) {
        /// Enough to be odd, and little enough to be quick.
        const LONGEST: usize = 1 << 17;
        let length = input.len();
        match self {
            Mutation::Flip(at, bits) => {
                if let Some(byte) = input.get_mut(place(*at, length)) {
                    *byte ^= bits;
                }
            }
            Mutation::Cut(at) => input.truncate(place(*at, length)),
            Mutation::Remove(at, share) => {
                let at = place(*at, length);
                drop(input.drain(at..at + place(*share, length - at)));
            }
            Mutation::Repeat(at, share, times) => {
                let at = place(*at, length);
                let piece = input[at..at + place(*share, length - at)].repeat(usize::from(*times));
                if length + piece.len() <= LONGEST {
                    drop(input.splice(at..at, piece));
                }
            }
            Mutation::Insert(at, odd) => {
                let at = place(*at, length);
                drop(input.splice(at..at, ODD[*odd].iter().copied()));
            }
            Mutation::Splice(seed, at, to) => {
                let Some(other) = seeds.get(seed % seeds.len().max(1)) else { return };
                input.truncate(place(*at, length));
                input.extend_from_slice(&other[place(*to, other.len())..]);
            }
            Mutation::Bytes(at, bytes) => {
                let at = place(*at, length);
                drop(input.splice(at..at, bytes.iter().copied()));
            }
        }
    }
}

/// Hands a target inputs that are made from good ones until its time is over. A target that panics fails the test, with the smallest input
/// that was found; so does one that takes a minute for an input.
///
/// # Panics
/// When the target does.
#[allow(clippy::print_stdout, reason = "a test says how much it tried")]
pub fn fuzz(name: &str, seeds: &[&[u8]], target: impl Fn(&[u8]) + std::panic::RefUnwindSafe) {
    let seconds =
        std::env::var("REEDHOOK_FUZZ").ok().and_then(|text| text.parse::<f64>().ok()).unwrap_or(0.5);
    let until = Instant::now() + Duration::from_secs_f64(seconds);
    let seeds: Vec<Vec<u8>> = seeds.iter().map(|seed| seed.to_vec()).collect();
    let inputs = (0..seeds.len().max(1), vec(mutation(), 0..12));
    let mut tried = 0_u64;
    let mut batch = 0_u64;
    while Instant::now() < until {
        // Other inputs in each batch, and the same ones in each run of as many batches.
        let config = Config {
            cases: 128,
            failure_persistence: None,
            rng_seed: RngSeed::Fixed(batch),
            ..Config::default()
        };
        batch += 1;
        let outcome = TestRunner::new(config).run(&inputs, |(seed, mutations)| {
            let mut input = seeds.get(seed).cloned().unwrap_or_default();
            mutations.iter().for_each(|mutation| mutation.apply(&mut input, &seeds));
            let begun = Instant::now();
            let ran = std::panic::catch_unwind(|| target(&input));
            let told = || format!("{:?}", String::from_utf8_lossy(&input));
            match ran {
                Err(_) => Err(TestCaseError::fail(format!("it panics on {}", told()))),
                Ok(()) if begun.elapsed() > TOO_LONG => {
                    Err(TestCaseError::fail(format!("it takes {:?} for {}", begun.elapsed(), told())))
                }
                Ok(()) => Ok(()),
            }
        });
        assert!(
            outcome.is_ok(),
            "{name}: {}",
            outcome.err().map(|error| error.to_string()).unwrap_or_default()
        );
        tried += 128;
    }
    println!("{name}: {tried} inputs");
}
