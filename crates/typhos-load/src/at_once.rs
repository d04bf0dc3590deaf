//! Work on several threads that ends when all of it is done.

use std::num::NonZeroUsize;
use std::sync::{Mutex, PoisonError};

use typhos_core::run::on_threads;

/// Does several things at once, each on a thread of its own, or one after the other where the system gives fewer threads;
/// returns what came of them, in their order. One that panics panics here.
pub fn at_once<T: Send>(works: impl IntoIterator<Item = impl FnOnce() -> T + Send>) -> Vec<T> {
    let works: Vec<_> = works.into_iter().enumerate().collect();
    let Some(threads) = NonZeroUsize::new(works.len()) else { return Vec::new() };
    let left = Mutex::new(works.into_iter());
    let next = || left.lock().unwrap_or_else(PoisonError::into_inner).next();
    let worker = || {
        let mut done = Vec::new();
        while let Some((at, work)) = next() {
            done.push((at, work()));
        }
        done
    };
    let mut done: Vec<_> = on_threads(threads, worker).into_iter().flatten().collect();
    done.sort_by_key(|(at, _)| *at);
    done.into_iter().map(|(_, result)| result).collect()
}

/// Asks several questions at once: the first by way of the connection at hand, each other by way of one of its own; returns the
/// answers in their order.
pub fn ask_at_once<T: Send>(
    questions: &[String],
    own: impl FnOnce(&str) -> T + Send,
    other: impl Fn(&str) -> T + Sync,
) -> Vec<T> {
    let Some((first, others)) = questions.split_first() else { return Vec::new() };
    type Ask<'a, T> = Box<dyn FnOnce() -> T + Send + 'a>;
    let other = &other;
    let own: Ask<'_, T> = Box::new(|| own(first));
    let others = others.iter().map(|sql| -> Ask<'_, T> { Box::new(move || other(sql)) });
    at_once(std::iter::once(own).chain(others))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn results_come_in_the_order_of_the_works() {
        let doubled = at_once((0..20).map(|n| move || 2 * n));
        assert_eq!(doubled, (0..20).map(|n| 2 * n).collect::<Vec<_>>());
        assert_eq!(at_once(Vec::<fn() -> u8>::new()), Vec::<u8>::new());
    }

    #[test]
    fn the_first_question_is_put_to_the_connection_at_hand() {
        let questions = ["a", "b", "c"].map(String::from);
        let asked = |of| ask_at_once(of, |sql| format!("own {sql}"), |sql| format!("other {sql}"));
        assert_eq!(asked(&questions[..]), ["own a", "other b", "other c"]);
        assert_eq!(asked(&[]), Vec::<String>::new());
    }
}
