//! How much memory this has taken.

use std::fs;

/// A boot is promised to need no more than this, in MiB.
const FOR_A_BOOT: u64 = 256;

/// Says so if a boot may need more than is promised: it does what this process has done, and less.
pub fn remark() -> Option<String> {
    let status = fs::read_to_string("/proc/self/status").ok()?;
    let line = status.lines().find_map(|it| it.strip_prefix("VmHWM:"))?;
    let taken = line.trim().strip_suffix("kB")?.trim().parse::<u64>().ok()? / 1024;
    (taken > FOR_A_BOOT).then(|| {
        format!(
            "to load so many rules took {taken} MiB of memory; a boot needs up to as much, and ends with \
             nothing but the remote shell open where it is not there"
        )
    })
}
