//! A setup that is running: does it work, does it stall, has it run too long?

/// What can be seen of a running setup at one moment.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Sample {
    /// Seconds since it was started.
    pub seconds: u64,
    /// Bytes of its log.
    pub log: u64,
    /// Free bytes on the system drive, where that is known.
    pub free: Option<u64>,
    /// Processor time that its processes have used, in milliseconds, where that is known.
    pub busy: Option<u64>,
}

/// What a running setup has to show.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Shown {
    /// Its log so far.
    pub log: Vec<u8>,
    /// Programs that it has started and that still run.
    pub programs: Vec<String>,
    /// Windows of its own and of those programs, by what stands above them; empty where one has no title.
    pub windows: Vec<String>,
}

/// What is worth a word.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sign {
    /// It is at work since so many seconds.
    Works {
        /// Seconds since it was started.
        seconds: u64,
    },
    /// Nothing has moved for so many seconds: no log, no disk, no processor.
    Stalls {
        /// Seconds since something moved.
        since: u64,
    },
    /// It runs longer than was allowed.
    TooLong {
        /// Seconds since it was started.
        seconds: u64,
    },
}

/// After so many seconds a word is due, where it works.
const WORKS_EVERY: u64 = 60;
/// After so many seconds without a move it stalls, and is told again after as many.
const STALLS_AFTER: u64 = 120;
/// So little of processor or disk is no move: the system itself makes that much.
const SOME_BUSY: u64 = 200;
const SOME_DISK: u64 = 256 * 1024;

/// Tells the signs from one sample to the next.
#[derive(Clone, Debug, Default)]
pub struct Watcher {
    limit: Option<u64>,
    last_move: Sample,
    told_work: u64,
    told_stall: u64,
    told_limit: bool,
}

impl Watcher {
    /// Watches a setup that may run for so many seconds, or for ever.
    pub fn new(limit: Option<u64>) -> Self {
        Self { limit, ..Self::default() }
    }

    /// What a new sample is a sign of; nothing most of the time.
    pub fn sign(&mut self, now: Sample) -> Option<Sign> {
        let moved = |was: Option<u64>, is: Option<u64>, least: u64| match (was, is) {
            (Some(was), Some(is)) => was.abs_diff(is) > least,
            _ => false,
        };
        let last = &self.last_move;
        if now.log != last.log || moved(last.busy, now.busy, SOME_BUSY) || moved(last.free, now.free, SOME_DISK) {
            self.last_move = now;
            self.told_stall = 0;
        } else if last.busy.is_none() || last.free.is_none() {
            // What was not known is known from now on; that is no move.
            self.last_move = Sample { seconds: last.seconds, ..now };
        }
        if self.limit.is_some_and(|limit| now.seconds >= limit) && !self.told_limit {
            self.told_limit = true;
            return Some(Sign::TooLong { seconds: now.seconds });
        }
        let still = now.seconds.saturating_sub(self.last_move.seconds);
        if still >= STALLS_AFTER && still >= self.told_stall + STALLS_AFTER {
            self.told_stall = still;
            return Some(Sign::Stalls { since: still });
        }
        if still < STALLS_AFTER && now.seconds >= self.told_work + WORKS_EVERY {
            self.told_work = now.seconds;
            return Some(Sign::Works { seconds: now.seconds });
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn signs(limit: Option<u64>, samples: impl Iterator<Item = Sample>) -> Vec<Sign> {
        let mut watcher = Watcher::new(limit);
        samples.filter_map(|sample| watcher.sign(sample)).collect()
    }

    #[test]
    fn a_setup_that_works_is_told_once_a_minute() {
        let at_work = (0..200).map(|seconds| Sample { seconds, log: seconds * 10, ..Sample::default() });
        let told: Vec<Sign> = [60, 120, 180].map(|seconds| Sign::Works { seconds }).to_vec();
        assert_eq!(signs(None, at_work), told);
    }

    #[test]
    fn a_setup_that_stands_still_is_told_and_told_again() {
        let still = (0..400).map(|seconds| Sample { seconds, log: 50, free: Some(7), busy: Some(9) });
        let told = signs(None, still);
        let stalls: Vec<u64> = told
            .iter()
            .filter_map(|sign| match sign {
                Sign::Stalls { since } => Some(*since),
                _ => None,
            })
            .collect();
        assert_eq!(stalls, [120, 240, 360]);
    }

    #[test]
    fn any_of_log_disk_and_processor_is_a_move() {
        type Move = fn(u64) -> Sample;
        let moves: [Move; 3] = [
            |at| Sample { seconds: at, log: at, free: Some(1), busy: Some(1) },
            |at| Sample { seconds: at, log: 5, free: Some(at << 20), busy: Some(1) },
            |at| Sample { seconds: at, log: 5, free: Some(1), busy: Some(at * 500) },
        ];
        for one in moves {
            assert!(signs(None, (0..300).map(one)).iter().all(|sign| matches!(sign, Sign::Works { .. })));
        }
        // The system's own noise is none.
        let noise = |at: u64| Sample { seconds: at, log: 5, free: Some(at % 3 * 1000), busy: Some(at % 50) };
        assert!(signs(None, (0..300).map(noise)).iter().any(|sign| matches!(sign, Sign::Stalls { .. })));
    }

    #[test]
    fn the_limit_is_told_once() {
        let at_work = (0..400).map(|seconds| Sample { seconds, log: seconds, ..Sample::default() });
        let told = signs(Some(90), at_work);
        assert_eq!(told.iter().filter(|sign| **sign == Sign::TooLong { seconds: 90 }).count(), 1);
        assert!(told.iter().filter(|sign| matches!(sign, Sign::TooLong { .. })).count() == 1);
    }
}
