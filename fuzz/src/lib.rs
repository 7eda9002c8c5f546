//! What the fuzz targets share.

use std::time::Duration;

use cpu_time::ThreadTime;

/// Most processor time for 10 kB of input. Instrumented code is several times as
/// slow as what is shipped, so this is generous to the input.
const LONGEST: Duration = Duration::from_millis(10);
const OCTETS: usize = 10_000;

/// What is slow is run so often: another program may have had the caches.
const RUNS: usize = 4;

/// Runs one input, which must not take long.
pub fn within_limits(octets: usize, mut run: impl FnMut()) {
    let most = LONGEST * u32::try_from(octets / OCTETS + 1).unwrap_or(u32::MAX);
    let mut took = Vec::new();
    while took.len() < RUNS {
        let start = ThreadTime::now();
        run();
        took.push(start.elapsed());
        if took.last().is_some_and(|last| *last <= most) {
            return;
        }
    }
    panic!("{octets} octets took {took:?}");
}
