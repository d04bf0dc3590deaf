//! Work on several threads that ends when all of it is done.

/// Does several things at once, each on a thread of its own; returns what came of them, in their order. One
/// that panics panics here.
pub(crate) fn at_once<T: Send>(
    works: impl IntoIterator<Item = impl FnOnce() -> T + Send>,
) -> Vec<T> {
    std::thread::scope(|scope| {
        let threads: Vec<_> = works.into_iter().map(|work| scope.spawn(work)).collect();
        let join = |thread: std::thread::ScopedJoinHandle<'_, T>| {
            thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
        };
        threads.into_iter().map(join).collect()
    })
}
