//! Signs from the machine: mounts that come and go, a clock that is set, a power cord that is pulled. Linux; elsewhere they do not come.

use std::fs::File;
use std::io::Read;
use std::path::Path;

use rustix::event::{PollFd, PollFlags, poll};
use rustix::io::Errno;
use rustix::time::{
    Itimerspec, TimerfdClockId, TimerfdFlags, TimerfdTimerFlags, Timespec, timerfd_create, timerfd_settime,
};

/// Hears from a thread of its own whenever something is mounted or unmounted (proc_pid_mounts(5): the table is polled).
///
/// # Errors
/// When the table cannot be opened, or no thread begun.
pub fn of_mounts(mut tell: impl FnMut() -> bool + Send + 'static) -> std::io::Result<()> {
    let mut table = File::open("/proc/self/mountinfo")?;
    begin("mounts", move || {
        loop {
            // Once read, the table says by poll(2) when it is another one.
            let _ = table.read_to_end(&mut Vec::new());
            let mut one = [PollFd::new(&table, PollFlags::PRI)];
            match poll(&mut one, None) {
                Ok(_) if tell() => {}
                Err(Errno::INTR) => {}
                _ => return,
            }
        }
    })
}

/// Hears from a thread of its own whenever somebody sets the clock, or the machine wakes up (timerfd_create(2)).
///
/// # Errors
/// When there is no such timer, or no thread begun.
pub fn of_the_clock(mut tell: impl FnMut() -> bool + Send + 'static) -> std::io::Result<()> {
    let timer = timerfd_create(TimerfdClockId::Realtime, TimerfdFlags::CLOEXEC)?;
    begin("clock", move || {
        loop {
            let never = Timespec { tv_sec: i64::from(u32::MAX), tv_nsec: 0 };
            let when = Itimerspec { it_interval: Timespec { tv_sec: 0, tv_nsec: 0 }, it_value: never };
            let how = TimerfdTimerFlags::ABSTIME | TimerfdTimerFlags::CANCEL_ON_SET;
            if timerfd_settime(&timer, how, &when).is_err() {
                return;
            }
            match rustix::io::read(&timer, &mut [0_u8; 8]) {
                Err(Errno::INTR) => {}
                Err(Errno::CANCELED) | Ok(_) if tell() => {}
                _ => return,
            }
        }
    })
}

fn begin(name: &str, work: impl FnOnce() + Send + 'static) -> std::io::Result<()> {
    std::thread::Builder::new().name(name.to_owned()).stack_size(128 << 10).spawn(work).map(drop)
}

/// Where the kernel tells of batteries and power cords.
pub const POWER: &str = "/sys/class/power_supply";

/// Whether the machine runs on its battery: there is one, and no cord gives any power.
pub fn on_battery(supplies: &Path) -> bool {
    let read = |path: &Path, name: &str| {
        std::fs::read_to_string(path.join(name)).map(|text| text.trim().to_owned()).unwrap_or_default()
    };
    let supplies: Vec<_> = std::fs::read_dir(supplies).into_iter().flatten().flatten().collect();
    let mut battery = false;
    for supply in supplies.iter().map(std::fs::DirEntry::path) {
        match read(&supply, "type").as_str() {
            // A mouse has a battery of its own.
            "Battery" => {
                battery |= read(&supply, "scope") != "Device" && read(&supply, "status") == "Discharging"
            }
            _ if read(&supply, "online") == "1" => return false,
            _ => {}
        }
    }
    battery
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_machine_without_power_from_a_cord_runs_on_its_battery() {
        let folder = tempfile::tempdir().unwrap();
        let supply = |name: &str, files: &[(&str, &str)]| {
            std::fs::create_dir_all(folder.path().join(name)).unwrap();
            for (file, text) in files {
                std::fs::write(folder.path().join(name).join(file), format!("{text}\n")).unwrap();
            }
        };
        assert!(!on_battery(folder.path()), "a machine that is no laptop");
        supply("mouse", &[("type", "Battery"), ("scope", "Device"), ("status", "Discharging")]);
        assert!(!on_battery(folder.path()));
        supply("BAT0", &[("type", "Battery"), ("status", "Discharging")]);
        supply("AC", &[("type", "Mains"), ("online", "0")]);
        assert!(on_battery(folder.path()));
        supply("AC", &[("online", "1")]);
        assert!(!on_battery(folder.path()));
    }
}
