//! A list that several threads work through.

use std::num::NonZeroUsize;
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Threads for work that keeps a processor busy: one for each, within reason.
pub fn processors() -> usize {
    std::thread::available_parallelism().map_or(2, NonZeroUsize::get).min(32)
}

/// Has up to `threads` threads take item after item; each makes its tools with `tools` and works with them.
///
/// # Errors
/// The first error of `work`; what has been begun is ended, nothing more is begun.
pub fn each<T: Sync, W, E: Send>(
    items: &[T],
    threads: usize,
    tools: impl Fn() -> W + Sync,
    work: impl Fn(&mut W, usize, &T) -> Result<(), E> + Sync,
) -> Result<(), E> {
    let next = AtomicUsize::new(0);
    let error = Mutex::new(None);
    let run = || {
        let mut tools = tools();
        loop {
            let index = next.fetch_add(1, Ordering::Relaxed);
            let Some(item) = items.get(index) else { return };
            if let Err(first) = work(&mut tools, index, item) {
                next.store(items.len(), Ordering::Relaxed);
                error.lock().expect("nothing panics with the lock").get_or_insert(first);
            }
        }
    };
    std::thread::scope(|scope| {
        for _ in 0..threads.min(items.len()) {
            scope.spawn(run);
        }
    });
    error.into_inner().expect("nothing panics with the lock").map_or(Ok(()), Err)
}

/// Has every item made into something, by one thread for each processor; what comes back is in the order of the items.
///
/// # Errors
/// The first error of `work`; what has been begun is ended, nothing more is begun.
pub fn map<T: Sync, R: Send, E: Send>(items: &[T], work: impl Fn(&T) -> Result<R, E> + Sync) -> Result<Vec<R>, E> {
    map_by(processors(), items, work)
}

/// As [`map`], by so many threads.
///
/// # Errors
/// Those of [`map`].
pub fn map_by<T: Sync, R: Send, E: Send>(
    threads: usize,
    items: &[T],
    work: impl Fn(&T) -> Result<R, E> + Sync,
) -> Result<Vec<R>, E> {
    let made = Mutex::new(Vec::new());
    each(
        items,
        threads,
        || (),
        |(), index, item| {
            let one = work(item)?;
            made.lock().expect("nothing panics with the lock").push((index, one));
            Ok(())
        },
    )?;
    let mut made = made.into_inner().expect("nothing panics with the lock");
    made.sort_by_key(|(index, _)| *index);
    Ok(made.into_iter().map(|(_, one)| one).collect())
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::AtomicU64;

    use super::*;

    #[test]
    fn every_item_is_worked_on_once_and_with_its_place() {
        let items: Vec<u64> = (0..1000).map(|n| n * 3).collect();
        let sum = AtomicU64::new(0);
        let done: Result<(), ()> = each(&items, 7, Vec::new, |mine, index, item| {
            assert_eq!(*item, index as u64 * 3);
            mine.push(index);
            sum.fetch_add(*item, Ordering::Relaxed);
            Ok(())
        });
        assert_eq!((done, sum.into_inner()), (Ok(()), items.iter().sum()));
        assert_eq!(each(&[], 7, || (), |(), _, item: &u64| Err(*item)), Ok(()));
    }

    #[test]
    fn what_is_made_is_in_order() {
        let items: Vec<u64> = (0..1000).collect();
        let made: Result<Vec<u64>, ()> = map_by(7, &items, |item| Ok(item * 3));
        assert_eq!(made.unwrap(), (0..3000).step_by(3).collect::<Vec<u64>>());
        assert_eq!(map(&items, |item| if *item == 5 { Err(*item) } else { Ok(()) }), Err(5));
        assert_eq!(map(&[], |item: &u64| Err::<(), u64>(*item)), Ok(Vec::new()));
    }

    #[test]
    fn an_error_ends_it() {
        let items: Vec<usize> = (0..100_000).collect();
        let begun = AtomicUsize::new(0);
        let done = each(
            &items,
            4,
            || (),
            |(), _, item| {
                begun.fetch_add(1, Ordering::Relaxed);
                if *item == 5 { Err(*item) } else { Ok(()) }
            },
        );
        assert_eq!(done, Err(5));
        assert!(each(&items[..6], 1, || (), |(), _, item| if *item >= 2 { Err(*item) } else { Ok(()) }) == Err(2));
        assert!(begun.into_inner() < items.len());
    }
}
