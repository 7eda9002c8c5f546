//! Tests that fill the machine and tests that go by the clock take turns, so
//! that the latter measure the service and not the load.

use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};

/// How many hold a turn now: below nought those that fill, above it those that
/// go by the clock.
static HOLDING: Mutex<i32> = Mutex::new(0);
static CHANGED: Condvar = Condvar::new();

/// A turn, until it is dropped; others of its kind run beside.
pub(crate) struct Turn(i32);

/// Waits until no test goes by the clock.
pub(crate) fn to_fill_the_machine() -> Turn {
    Turn::take(-1)
}

/// Waits until no test fills the machine.
pub(crate) fn to_go_by_the_clock() -> Turn {
    Turn::take(1)
}

fn holding() -> MutexGuard<'static, i32> {
    HOLDING.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Turn {
    fn take(kind: i32) -> Self {
        let free = CHANGED.wait_while(holding(), |holding| *holding * kind < 0);
        *free.unwrap_or_else(PoisonError::into_inner) += kind;
        Self(kind)
    }
}

impl Drop for Turn {
    fn drop(&mut self) {
        *holding() -= self.0;
        CHANGED.notify_all();
    }
}
