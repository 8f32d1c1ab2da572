//! The wish to stop, as the operating system brings it.

use std::io;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use crossbeam_channel::Receiver;
use reedhook_tend::Sign;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::Signals;

/// Set by the first signal, which asks for a clean stop; a second one ends the program at once, which harms nothing either. A
/// signal that whoever started the program wants to be ignored stays ignored: that is how a run outlives its terminal.
pub fn stop_flag(hangup_stops: bool) -> io::Result<Arc<AtomicBool>> {
    let stop = Arc::new(AtomicBool::new(false));
    let ignored = ignored();
    let signals = [SIGINT, SIGTERM, SIGHUP].into_iter().filter(|signal| hangup_stops || *signal != SIGHUP);
    for signal in signals.filter(|signal| !ignored.contains(signal)) {
        signal_hook::flag::register_conditional_shutdown(signal, 130, stop.clone())?;
        signal_hook::flag::register(signal, stop.clone())?;
    }
    survive_large_files()?;
    Ok(stop)
}

/// Tells of the signals that a service lives by, from a thread of its own: the wish to end, and the wish that it reads its files anew.
pub fn of_a_service() -> io::Result<Receiver<Sign>> {
    let mut signals = Signals::new([SIGINT, SIGTERM, SIGHUP])?;
    let (send, signs) = crossbeam_channel::unbounded();
    std::thread::Builder::new().name("signals".to_owned()).spawn(move || {
        for signal in signals.forever() {
            let sign = if signal == SIGHUP { Sign::Reload } else { Sign::End };
            if send.send(sign).is_err() {
                return;
            }
        }
    })?;
    Ok(signs)
}

/// A file that grows over the limit of the account or the file system is a problem of that file; unhandled, its signal would end
/// the program.
#[cfg(target_os = "linux")]
fn survive_large_files() -> io::Result<()> {
    let nobody_asks = Arc::new(AtomicBool::new(false));
    signal_hook::flag::register(rustix::process::Signal::XFSZ.as_raw(), nobody_asks).map(drop)
}

#[cfg(not(target_os = "linux"))]
fn survive_large_files() -> io::Result<()> {
    Ok(())
}

/// The signals that were ignored when the program began.
#[cfg(target_os = "linux")]
fn ignored() -> Vec<i32> {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let mask = status.lines().find_map(|line| line.strip_prefix("SigIgn:"));
    let mask = mask.and_then(|hex| u64::from_str_radix(hex.trim(), 16).ok()).unwrap_or(0);
    [SIGINT, SIGTERM, SIGHUP].into_iter().filter(|signal| mask & (1 << (signal - 1)) != 0).collect()
}

/// The signals that were ignored when the program began: not told here.
#[cfg(not(target_os = "linux"))]
fn ignored() -> Vec<i32> {
    Vec::new()
}
