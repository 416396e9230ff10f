//! Packages are hostile input, and the reader of their tables believes them: where it gives up by a
//! panic, that is an error here.

use std::cell::Cell;
use std::panic::{AssertUnwindSafe, catch_unwind, set_hook, take_hook};
use std::sync::Once;

thread_local! {
    /// Whether a panic of this thread is expected, and told as an error.
    static EXPECTED: Cell<bool> = const { Cell::new(false) };
}

/// What `read` gives, or `None` if it panicked; nothing is printed then.
pub(super) fn unless_it_panics<T>(read: impl FnOnce() -> T) -> Option<T> {
    static ONCE: Once = Once::new();
    ONCE.call_once(|| {
        let tell = take_hook();
        set_hook(Box::new(move |panic| {
            if !EXPECTED.get() {
                tell(panic);
            }
        }));
    });
    let before = EXPECTED.replace(true);
    // Nothing that `read` borrowed is used after a panic.
    let outcome = catch_unwind(AssertUnwindSafe(read));
    EXPECTED.set(before);
    outcome.ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_panic_is_no_answer_and_the_next_read_works() {
        assert_eq!(unless_it_panics(|| Vec::<u8>::new()[..1].len()), None);
        assert_eq!(unless_it_panics(|| 5), Some(5));
        assert!(!EXPECTED.get());
    }
}
