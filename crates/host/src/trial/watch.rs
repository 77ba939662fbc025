//! Following the log of a server that somebody else starts: it may be on another machine.

use std::{
    io::{Read, Seek, SeekFrom},
    thread,
    time::{Duration, Instant},
};

use yalotheca_core::{
    control::Locked,
    diagnose::LogReader,
    game::{Game, Scope},
    id::TreePath,
};

use super::{AFTER_FATAL, Heard, Patience, Signals, Trial, TrialError, ask_at, judge, slow};
use crate::{
    survey::played,
    tree::{EntryKind, Tree, TreeError},
};

/// If any of this many bytes before the current offset has changed, the log was replaced.
const BEFORE: u64 = 512;
/// No more of a log than this is read at a time.
const MOST: u64 = 4 << 20;

/// Which log is followed, and how long.
#[derive(Debug, Clone)]
pub struct WatchOptions {
    /// The host at which the server's port is asked.
    pub host: String,
    /// How long to wait until the server begins to write.
    pub begins_within: Duration,
    /// How long to wait for the ready line after that.
    pub patience: Patience,
}

/// A log, as far as it was read.
#[derive(Debug)]
pub struct LogFollower {
    log: TreePath,
    /// How many of its bytes were read, and the last of them.
    offset: u64,
    before: Vec<u8>,
    /// A line whose end is not there yet.
    begun: Vec<u8>,
}

impl LogFollower {
    /// Begins at the end of a log; it need not be there yet.
    ///
    /// # Errors
    /// Where it cannot be read.
    pub fn at_end(tree: &dyn Tree, log: TreePath) -> Result<Self, TreeError> {
        let mut follower = Self { log, offset: 0, before: Vec::new(), begun: Vec::new() };
        if let Some(EntryKind::File(size)) = tree.kind_of(&follower.log)? {
            let start = size.saturating_sub(BEFORE);
            follower.before = follower.read(tree, start..size)?;
            follower.offset = start + follower.before.len() as u64;
        }
        Ok(follower)
    }

    /// Begins at a place in a log; the line in which that is is not whole.
    pub fn from(log: TreePath, offset: u64) -> Self {
        Self { log, offset, before: Vec::new(), begun: Vec::new() }
    }

    fn read(&self, tree: &dyn Tree, range: std::ops::Range<u64>) -> Result<Vec<u8>, TreeError> {
        let failed = |source| TreeError { verb: "reading", path: self.log.to_string(), source };
        let mut bytes = Vec::new();
        if let Some(mut file) = tree.open(&self.log)? {
            file.seek(SeekFrom::Start(range.start)).map_err(failed)?;
            file.take(range.end - range.start).read_to_end(&mut bytes).map_err(failed)?;
        }
        Ok(bytes)
    }

    /// Returns the lines that were written since the last time.
    ///
    /// # Errors
    /// Where the log cannot be read.
    pub fn lines(&mut self, tree: &dyn Tree) -> Result<Vec<String>, TreeError> {
        tree.forget_seen();
        let size = match tree.kind_of(&self.log)? {
            Some(EntryKind::File(size)) => size,
            _ => 0,
        };
        let start = self.offset - self.before.len() as u64;
        let same = size >= self.offset
            && (size == self.offset || { self.read(tree, start..self.offset)? == self.before });
        if !same {
            (self.offset, self.before) = (0, Vec::new());
            self.begun.clear();
        }
        if size <= self.offset {
            return Ok(Vec::new());
        }
        let new = self.read(tree, self.offset..size.min(self.offset + MOST))?;
        self.offset += new.len() as u64;
        self.before.extend(&new);
        let spare = self.before.len().saturating_sub(usize::try_from(BEFORE).unwrap_or(0));
        self.before.drain(..spare);
        self.begun.extend(new);
        let Some(end) = self.begun.iter().rposition(|byte| *byte == b'\n') else { return Ok(Vec::new()) };
        let whole: Vec<u8> = self.begun.drain(..=end).collect();
        let text = String::from_utf8_lossy(&whole);
        Ok(text.lines().map(|line| line.trim_end_matches('\r').to_owned()).collect())
    }
}

/// Follows a log until the server is ready or has failed. Nothing is started or stopped.
///
/// # Errors
/// Where the log cannot be read, or this program is ended meanwhile.
pub fn watch(
    tree: &dyn Tree,
    (game, scope, lineup): (&Game, &Scope, &[Locked]),
    follower: &mut LogFollower,
    options: &WatchOptions,
    on_line: &mut dyn FnMut(&str),
) -> Result<Trial, TrialError> {
    let pause = Duration::from_millis(if tree.local().is_some() { 50 } else { 400 });
    let plays = played(tree, game, scope).ok().and_then(|maps| maps.play);
    let mut reader = LogReader::new(game, scope, lineup, plays.as_deref())?.of_brief_log();
    let signals = Signals::listen();
    let mut heard = Heard { tail: Vec::new(), first_done: false };
    let (mut begun, mut ready_after, mut is_ending) = (None::<Instant>, None, false);
    let (started, mut last_line) = (Instant::now(), Instant::now());
    let mut until = Some(started + options.begins_within);
    loop {
        let lines = follower.lines(tree)?;
        if !lines.is_empty() && begun.is_none() {
            begun = Some(Instant::now());
            until = None;
        }
        if heard.listen(lines, game, &mut reader, on_line) {
            last_line = Instant::now();
        }
        if reader.is_fatal() && !is_ending {
            is_ending = true;
            until = Some(Instant::now() + AFTER_FATAL);
        }
        if reader.is_ready() && ready_after.is_none() {
            ready_after = begun.map(|begun| begun.elapsed());
            // What comes a moment later must have been seen once.
            until = if is_ending {
                until
            } else {
                Some(Instant::now() + Duration::from_millis(game.run.quiet_ms) + pause)
            };
        }
        if let Some(signal) = signals.came() {
            return Err(TrialError::WatchInterrupted(signal));
        }
        let waits = match (until, begun) {
            (Some(until), _) => Instant::now() < until,
            (None, Some(begun)) => options.patience.lasts(begun.elapsed(), last_line.elapsed()),
            (None, None) => false,
        };
        if !waits || heard.first_done {
            break;
        }
        thread::sleep(pause);
    }
    let ask = || ask_at(&options.host, game, scope).map(|port| port.is_some());
    let answers = if reader.is_ready() { ask() } else { game.run.probe.as_ref().map(|_| false) };
    let (verdict, mut troubles) = judge(&reader, true, answers);
    if !reader.is_ready() && !reader.is_fatal() && !heard.first_done {
        let waited = begun.map_or(options.begins_within, |begun| begun.elapsed());
        troubles.insert(0, slow(waited, last_line.elapsed(), heard.tail.last()));
    }
    Ok(Trial {
        verdict,
        ready_after,
        answers,
        troubles,
        contents: reader.contents(),
        ended: None,
        was_killed: false,
        stopped_after: None,
        lines: reader.lines().clone(),
        tail: heard.tail,
        kept: None,
        was_first: heard.first_done,
    })
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;
    use crate::tree::LocalTree;

    #[test]
    fn a_log_is_followed_when_it_grows_and_when_it_is_begun_anew() {
        let folder = tempfile::tempdir().unwrap();
        let (tree, path) = (LocalTree::new(folder.path()), folder.path().join("latest.log"));
        let log = TreePath::new("latest.log").unwrap();
        let write = |text: &str| fs::write(&path, text).unwrap();
        // Not there yet.
        let mut follower = LogFollower::at_end(&tree, log.clone()).unwrap();
        assert!(follower.lines(&tree).unwrap().is_empty());
        write("one\r\ntw");
        assert_eq!(follower.lines(&tree).unwrap(), ["one"]);
        write("one\r\ntwo\n");
        assert_eq!(follower.lines(&tree).unwrap(), ["two"]);
        // What was there before is not read.
        let mut follower = LogFollower::at_end(&tree, log).unwrap();
        write("one\r\ntwo\nthree\n");
        assert_eq!(follower.lines(&tree).unwrap(), ["three"]);
        // The log was replaced by a shorter one, then by longer ones.
        write("first\n");
        assert_eq!(follower.lines(&tree).unwrap(), ["first"]);
        write("again, and longer\nthan before\n");
        assert_eq!(follower.lines(&tree).unwrap(), ["again, and longer", "than before"]);
        fs::remove_file(&path).unwrap();
        assert!(follower.lines(&tree).unwrap().is_empty());
        write("again, and longer\n");
        assert_eq!(follower.lines(&tree).unwrap(), ["again, and longer"]);
    }
}
