//! What the fuzz targets share.

use std::time::Duration;

use cpu_time::ThreadTime;

/// Most processor time for 10 kB of input. Instrumented code is several times as
/// slow as what is shipped, so this is generous to the input.
const LONGEST: Duration = Duration::from_millis(10);
const OCTETS: usize = 10_000;

/// Runs one input, which must not take long.
pub fn within_limits(octets: usize, run: impl FnOnce()) {
    let start = ThreadTime::now();
    run();
    let most = LONGEST * u32::try_from(octets / OCTETS + 1).unwrap_or(u32::MAX);
    let took = start.elapsed();
    assert!(took <= most, "{octets} octets took {took:?}");
}
