//! The memory of this process, as Linux reports it.

/// A line of `/proc/self/status`, in bytes; 0 where there is no such file.
fn status(word: &str) -> usize {
    let text = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = text
        .lines()
        .find(|line| line.starts_with(word))
        .unwrap_or_default();
    line.split_whitespace()
        .nth(1)
        .and_then(|number| number.parse::<usize>().ok())
        .unwrap_or_default()
        * 1024
}

/// Forgets the peak, and says what is in use now.
pub fn reset() -> usize {
    // Not allowed everywhere: the peak is then that of the whole life, which is more and not less.
    let _ = std::fs::write("/proc/self/clear_refs", "5");
    status("VmRSS:")
}

/// The most that was in use since.
pub fn peak() -> usize {
    status("VmHWM:")
}
