//! Stacks for folders and keys that lie thousands deep: what walks them calls itself once for each level.

use std::thread::Builder;

/// Bytes of a stack, of which only what is used takes memory. A level takes about 10 KB, and the deepest folder that is
/// read lies [`DEEPEST`] deep.
const STACK: usize = 256 << 20;

/// Folders below one another that are read; deeper ones are a gap. A path of Windows' has at most 32,767 characters, and
/// no program makes folders like that but by a mistake.
pub(crate) const DEEPEST: usize = 4096;

/// Does some work on a thread with such a stack, and gives the threads that read side by side the same. Where no such
/// thread can be had the work is done on this one.
pub fn with_deep_stack<T: Send + 'static>(work: fn() -> T) -> T {
    // A pool that is there already stays.
    let _ = rayon::ThreadPoolBuilder::new().stack_size(STACK).build_global();
    match Builder::new().stack_size(STACK).spawn(work) {
        Ok(thread) => match thread.join() {
            Ok(done) => done,
            Err(panic) => std::panic::resume_unwind(panic),
        },
        Err(_) => work(),
    }
}
