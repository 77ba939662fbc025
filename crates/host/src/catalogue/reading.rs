//! Contents read ahead: several threads read what one takes in order and adds to while it goes.
//!
//! Reading one content tells which others are to be read, so the list grows while it is worked on. What is taken comes in
//! the order of the list whoever read it, so that the same question always meets its contents in the same order.

use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};

use yalotheca_core::{catalogue::Content, id::ContentId};

use super::CatalogueError;

/// What came of reading one content: nothing where nobody has it.
pub(super) type ReadContent = Result<Option<Content>, CatalogueError>;

/// What is to be read, and what was.
#[derive(Default)]
pub(super) struct Reading {
    state: Mutex<State>,
    /// Something was added, something was read, or it is over.
    changed: Condvar,
}

#[derive(Default)]
struct State {
    ids: Vec<ContentId>,
    found: Vec<Option<ReadContent>>,
    /// How many of them somebody reads or has read.
    begun: usize,
    is_over: bool,
}

/// Says on its way out that it is over, however that comes about: nobody waits for a thread that is gone.
pub(super) struct Ending<'r>(&'r Reading);

impl Drop for Ending<'_> {
    fn drop(&mut self) {
        self.0.lock().is_over = true;
        self.0.changed.notify_all();
    }
}

impl Reading {
    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn ending(&self) -> Ending<'_> {
        Ending(self)
    }

    /// Adds to the list, and returns how many of it nobody has begun.
    pub(super) fn add(&self, ids: impl IntoIterator<Item = ContentId>) -> usize {
        let mut state = self.lock();
        state.ids.extend(ids);
        let all = state.ids.len();
        state.found.resize_with(all, || None);
        self.changed.notify_all();
        all - state.begun
    }

    /// Reads ahead until it is over.
    pub(super) fn work(&self, read: impl Fn(&ContentId) -> ReadContent) {
        let mut state = self.lock();
        while !state.is_over {
            state = match self.read_one(state, &read) {
                Ok(state) => state,
                Err(state) => self.changed.wait(state).unwrap_or_else(PoisonError::into_inner),
            };
        }
    }

    /// Reads the next one that nobody has begun; gives the state back untouched where there is none.
    fn read_one<'r>(
        &'r self,
        mut state: MutexGuard<'r, State>,
        read: impl Fn(&ContentId) -> ReadContent,
    ) -> Result<MutexGuard<'r, State>, MutexGuard<'r, State>> {
        let at = state.begun;
        let Some(id) = state.ids.get(at).cloned() else { return Err(state) };
        state.begun += 1;
        drop(state);
        let found = read(&id);
        let mut state = self.lock();
        state.found[at] = Some(found);
        self.changed.notify_all();
        Ok(state)
    }

    /// Returns the content at this place of the list, reading it or others while it has to wait; nothing behind the end,
    /// or where whoever was to read it is gone.
    pub(super) fn take(
        &self,
        at: usize,
        read: impl Fn(&ContentId) -> ReadContent,
    ) -> Option<(ContentId, ReadContent)> {
        let mut state = self.lock();
        loop {
            let id = state.ids.get(at)?.clone();
            if let Some(found) = state.found[at].take() {
                return Some((id, found));
            }
            if state.is_over {
                return None;
            }
            state = match self.read_one(state, &read) {
                Ok(state) => state,
                Err(state) => self.changed.wait(state).unwrap_or_else(PoisonError::into_inner),
            };
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn id(number: usize) -> ContentId {
        ContentId::new(&format!("c{number}")).unwrap()
    }

    #[expect(clippy::unnecessary_wraps, reason = "as reading one is")]
    fn nobody(_: &ContentId) -> ReadContent {
        Ok(None)
    }

    /// Every content leads to two more, up to a thousand.
    fn taken(threads: usize) -> Vec<String> {
        let reading = Reading::default();
        let mut taken = Vec::new();
        std::thread::scope(|scope| {
            let _ending = reading.ending();
            (1..threads).for_each(|_| drop(scope.spawn(|| reading.work(nobody))));
            reading.add([id(0)]);
            let mut at = 0;
            while let Some((found, _)) = reading.take(at, nobody) {
                taken.push(found.to_string());
                reading.add([2 * at + 1, 2 * at + 2].into_iter().filter(|next| *next < 1000).map(id));
                at += 1;
            }
        });
        taken
    }

    #[test]
    fn the_order_is_the_same_however_many_read() {
        let alone = taken(1);
        assert_eq!(alone.len(), 1000);
        for threads in [2, 5] {
            assert_eq!(taken(threads), alone);
        }
    }

    #[test]
    #[should_panic(expected = "a scoped thread panicked")]
    fn nobody_waits_for_a_reader_that_is_gone() {
        let reading = Reading::default();
        std::thread::scope(|scope| {
            let _ending = reading.ending();
            reading.add([id(0)]);
            let (begun, wait) = std::sync::mpsc::channel();
            let reading = &reading;
            scope.spawn(move || {
                let _ending = reading.ending();
                reading.work(|_| {
                    begun.send(()).unwrap();
                    panic!("gone")
                });
            });
            wait.recv().unwrap();
            assert!(reading.take(0, nobody).is_none());
        });
    }
}
