//! The allocator of the command line, which counts what each thread asks of it.
#![expect(unsafe_code, reason = "an allocator is an unsafe trait; every call goes on to another one as it came")]

use mimalloc::MiMalloc;
use std::alloc::{GlobalAlloc, Layout};
use std::cell::Cell;

/// What a thread has asked for so far.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Asked {
    pub(crate) times: u64,
    pub(crate) bytes: u64,
}

thread_local! {
    static ASKED: Cell<Asked> = const { Cell::new(Asked { times: 0, bytes: 0 }) };
}

/// What this thread has asked for while `work` ran.
pub(crate) fn asked_by(work: impl FnOnce()) -> Asked {
    let before = ASKED.get();
    work();
    let after = ASKED.get();
    Asked { times: after.times - before.times, bytes: after.bytes - before.bytes }
}

fn count(bytes: usize) {
    // A thread that ends has no counter any more.
    let _ = ASKED.try_with(|asked| {
        let Asked { times, bytes: sofar } = asked.get();
        asked.set(Asked { times: times + 1, bytes: sofar + bytes as u64 });
    });
}

pub(crate) struct Counted;

// SAFETY: each method gives what the other allocator gives for the same arguments; counting allocates nothing.
unsafe impl GlobalAlloc for Counted {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        count(layout.size());
        // SAFETY: the caller's promises are those that are asked for.
        unsafe { MiMalloc.alloc(layout) }
    }

    unsafe fn alloc_zeroed(&self, layout: Layout) -> *mut u8 {
        count(layout.size());
        // SAFETY: as in `alloc`.
        unsafe { MiMalloc.alloc_zeroed(layout) }
    }

    unsafe fn realloc(&self, pointer: *mut u8, layout: Layout, size: usize) -> *mut u8 {
        count(size.saturating_sub(layout.size()));
        // SAFETY: as in `alloc`; the pointer came from the same allocator.
        unsafe { MiMalloc.realloc(pointer, layout, size) }
    }

    unsafe fn dealloc(&self, pointer: *mut u8, layout: Layout) {
        // SAFETY: as in `realloc`.
        unsafe { MiMalloc.dealloc(pointer, layout) }
    }
}
