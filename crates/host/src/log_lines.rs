//! A server's output, line by line and bounded: however much it says, little of it is held at a time.

use std::{
    fs::File,
    io::{self, BufRead, BufReader, Read, Seek, SeekFrom},
    sync::mpsc::{Receiver, RecvTimeoutError, SyncSender, sync_channel},
    thread,
    time::{Duration, Instant},
};

use yalotheca_core::id::TreePath;

use crate::tree::LocalTree;

/// A line longer than this is cut.
const LONGEST: usize = 64 << 10;

/// So many lines wait at most; a server that says more waits as well.
const WAITING: usize = 64;

/// How many lines are taken at a time, so that the caller also checks the clock.
const AT_A_TIME: usize = 1024;

/// What comes out of pipes.
pub(crate) struct Lines(Receiver<String>);

impl Lines {
    /// Listens to some pipes.
    pub(crate) fn of(pipes: Vec<Box<dyn Read + Send>>) -> Self {
        let (send, receive) = sync_channel(WAITING);
        for pipe in pipes {
            let send = send.clone();
            thread::spawn(move || read(pipe, &send));
        }
        Self(receive)
    }

    /// Returns the lines that came, after waiting for the first one so long.
    pub(crate) fn next(&self, wait: Duration) -> Vec<String> {
        let mut found = Vec::new();
        match self.0.recv_timeout(wait) {
            Ok(line) => found.push(line),
            Err(RecvTimeoutError::Disconnected) => thread::sleep(wait),
            Err(RecvTimeoutError::Timeout) => {}
        }
        found.extend(self.0.try_iter().take(AT_A_TIME));
        found
    }

    /// The same; nothing where all pipes are closed and all lines were taken.
    pub(crate) fn next_or_end(&self, wait: Duration) -> Option<Vec<String>> {
        let first = match self.0.recv_timeout(wait) {
            Ok(line) => line,
            Err(RecvTimeoutError::Timeout) => return Some(Vec::new()),
            Err(RecvTimeoutError::Disconnected) => return None,
        };
        Some(std::iter::once(first).chain(self.0.try_iter().take(AT_A_TIME)).collect())
    }

    /// Returns the lines that still come until all pipes are closed, or until a moment.
    pub(crate) fn rest(&self, until: Instant, most: usize) -> Vec<String> {
        let next = || self.0.recv_timeout(until.saturating_duration_since(Instant::now())).ok();
        std::iter::from_fn(next).take(most).collect()
    }
}

fn read(pipe: impl Read, send: &SyncSender<String>) {
    let mut reader = BufReader::with_capacity(LONGEST, pipe);
    while let Ok(Some(line)) = read_line(&mut reader) {
        if send.send(line).is_err() {
            return;
        }
    }
}

/// Reads one line; of a long one only the beginning is held.
fn read_line(reader: &mut impl BufRead) -> io::Result<Option<String>> {
    let (mut line, mut length) = (Vec::new(), 0_usize);
    loop {
        let bytes = match reader.fill_buf() {
            Ok(bytes) => bytes,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
            Err(error) => return Err(error),
        };
        if bytes.is_empty() {
            break;
        }
        let end = bytes.iter().position(|byte| *byte == b'\n');
        let taken = end.map_or(bytes.len(), |end| end + 1);
        let room = LONGEST.saturating_sub(line.len()).min(taken);
        line.extend_from_slice(&bytes[..room]);
        length += taken;
        reader.consume(taken);
        if end.is_some() {
            break;
        }
    }
    if length == 0 {
        return Ok(None);
    }
    let text = String::from_utf8_lossy(&line).trim_end().to_owned();
    Ok(Some(if length > LONGEST + 1 {
        format!("{text} … (cut; the line has {length} bytes)")
    } else {
        text
    }))
}

/// Returns the whole lines that were added to a file, at most a megabyte at a time; with `to_end` what stands behind the last line
/// end as well.
pub(crate) fn follow(tree: &LocalTree, path: &TreePath, read: &mut u64, to_end: bool) -> Vec<String> {
    const MOST: u64 = 1 << 20;
    let mut bytes = Vec::new();
    let mut open = |file: File| -> std::io::Result<()> {
        let mut file = BufReader::new(file);
        file.seek(SeekFrom::Start(*read))?;
        file.fill_buf()?;
        file.take(MOST).read_to_end(&mut bytes).map(drop)
    };
    if tree.open_file(path).ok().flatten().is_none_or(|file| open(file).is_err()) {
        return Vec::new();
    }
    let end = match bytes.iter().rposition(|byte| *byte == b'\n') {
        Some(end) => end + 1,
        // A line without an end, longer than any that is held.
        None if bytes.len() as u64 == MOST || to_end => bytes.len(),
        None => return Vec::new(),
    };
    let end = if to_end { bytes.len() } else { end };
    *read += end as u64;
    let cut = |line: &str| {
        line.char_indices().take_while(|(at, _)| *at < LONGEST).map(|(_, c)| c).collect::<String>()
    };
    String::from_utf8_lossy(&bytes[..end]).lines().map(|line| cut(line.trim_end())).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_long_line_is_cut_and_the_next_one_is_whole() {
        let text = format!("short\n{}\nafter\nlast", "x".repeat(3 * LONGEST));
        let lines = Lines::of(vec![Box::new(io::Cursor::new(text))]);
        let all = lines.rest(Instant::now() + Duration::from_secs(5), 100);
        assert_eq!(all.len(), 4);
        assert_eq!((all[0].as_str(), all[2].as_str(), all[3].as_str()), ("short", "after", "last"));
        assert!(
            all[1].len() < LONGEST + 60 && all[1].ends_with("(cut; the line has 196609 bytes)"),
            "{}",
            all[1].len()
        );
    }

    #[test]
    fn who_listens_gets_away_from_a_flood() {
        struct Flood;
        impl Read for Flood {
            fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
                buffer.fill(b'\n');
                Ok(buffer.len())
            }
        }
        let lines = Lines::of(vec![Box::new(Flood)]);
        assert!(lines.next(Duration::from_secs(1)).len() <= AT_A_TIME + 1);
    }
}
