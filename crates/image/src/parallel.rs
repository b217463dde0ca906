//! Work in parts, on all processors.

use std::num::NonZero;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;

/// Does each of so many parts, and answers what they answer, in order. With the first fault no further part is begun.
/// A part that breaks (panics) breaks this.
pub(crate) fn each<T: Send, E: Send>(count: usize, work: impl Fn(usize) -> Result<T, E> + Sync) -> Result<Vec<T>, E> {
    let threads = thread::available_parallelism().map_or(1, NonZero::get).min(count);
    if threads <= 1 {
        return (0..count).map(work).collect();
    }
    let next = AtomicUsize::new(0);
    let some = || {
        let mut done = Vec::new();
        loop {
            let number = next.fetch_add(1, Ordering::Relaxed);
            if number >= count {
                return Ok(done);
            }
            let answer = work(number).inspect_err(|_| next.store(count, Ordering::Relaxed))?;
            done.push((number, answer));
        }
    };
    let all = thread::scope(|scope| {
        let others: Vec<_> = (1..threads).map(|_| scope.spawn(some)).collect();
        let own = some();
        let joined =
            others.into_iter().map(|other| other.join().unwrap_or_else(|broke| std::panic::resume_unwind(broke)));
        std::iter::once(own).chain(joined).collect::<Result<Vec<_>, E>>()
    })?;
    let mut done: Vec<_> = all.into_iter().flatten().collect();
    done.sort_by_key(|(number, _)| *number);
    Ok(done.into_iter().map(|(_, answer)| answer).collect())
}

#[cfg(test)]
mod tests {
    use std::sync::Mutex;

    use super::*;

    #[test]
    fn every_part_is_done_once_and_answers_stand_in_order_and_a_fault_ends_it() {
        let done = Mutex::new(Vec::new());
        let answers = each(1000, |number| {
            done.lock().unwrap().push(number);
            Ok::<_, String>(number * 2)
        });
        assert_eq!(answers.unwrap(), (0..1000).map(|number| number * 2).collect::<Vec<_>>());
        let mut done = done.into_inner().unwrap();
        done.sort_unstable();
        assert_eq!(done, (0..1000).collect::<Vec<_>>());
        let fault = each(1000, |number| if number == 7 { Err("the seventh") } else { Ok(()) });
        assert_eq!(fault, Err("the seventh"));
        assert_eq!(each(0, |_| Err::<(), _>("never")), Ok(Vec::new()));
    }

    #[test]
    fn a_part_that_breaks_is_not_taken_for_one_that_is_done() {
        let broke = std::panic::catch_unwind(|| {
            each(100, |number| if number == 50 { panic!("it broke") } else { Ok::<_, ()>(()) })
        });
        assert!(broke.is_err());
    }
}
