//! Polite mode: the work gives way to whatever else the machine has to do.

/// Does some work on a thread of low priority for processor and disk; the threads that it starts take the priority over. A
/// system that has no such thing, or refuses, loses nothing but politeness.
pub fn at_low_priority<T: Send>(work: impl FnOnce() -> T + Send) -> T {
    let outcome = std::thread::scope(|scope| {
        let worker = scope.spawn(|| {
            #[cfg(target_os = "linux")]
            linux::give_way();
            work()
        });
        worker.join()
    });
    outcome.unwrap_or_else(|panic| std::panic::resume_unwind(panic))
}

#[cfg(target_os = "linux")]
mod linux {
    /// From `linux/ioprio.h`: whom it concerns, and the class for whoever can wait until nobody else wants the disk.
    const WHO_PROCESS: libc::c_int = 1;
    const CLASS_IDLE: libc::c_int = 3;
    const CLASS_SHIFT: libc::c_int = 13;

    #[expect(unsafe_code, reason = "the system call has no safe name anywhere")]
    pub(super) fn give_way() {
        // The lowest priority that is still scheduled as usual; on Linux it is the calling thread's own.
        let _ = rustix::process::nice(19);
        // SAFETY: the call takes three integers and touches no memory of ours; the C library has no name for it.
        unsafe {
            libc::syscall(libc::SYS_ioprio_set, WHO_PROCESS, 0, CLASS_IDLE << CLASS_SHIFT);
        }
    }
}

#[cfg(all(test, target_os = "linux"))]
mod tests {
    #[test]
    fn the_work_and_its_threads_have_low_priority_and_nothing_else_has() {
        let niceness = || -> i32 {
            let stat = std::fs::read_to_string("/proc/thread-self/stat").unwrap_or_default();
            let after_name = stat.rsplit(')').next().unwrap_or_default();
            after_name.split_whitespace().nth(16).and_then(|field| field.parse().ok()).unwrap_or(-99)
        };
        let before = niceness();
        let inside = super::at_low_priority(|| {
            (niceness(), std::thread::scope(|scope| scope.spawn(niceness).join().ok()))
        });
        assert_eq!(inside, (19, Some(19)));
        assert_eq!(niceness(), before);
    }
}
