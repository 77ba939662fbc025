//! What is asked of an SFTP server, request by request.

use std::{
    collections::{HashMap, VecDeque},
    io::{self, Read},
    ops::Range,
};

use super::{
    super::file_server::{RemoteEntry, RemoteFile, RemoteMetadata, is_torn},
    pipeline::{Exchange, torn},
    wire::{self, CHUNK, Reply, Request},
};

/// So many parts of a file are under way.
const PARTS: usize = 64;
/// So many parts of a listing are asked for at first, and then.
const LISTINGS: (usize, usize) = (2, 8);

/// The tags of the requests that set a file's mode and time, and that ask for them.
const ATTRIBUTES: u64 = 1;
const METADATA: u64 = 2;

fn unexpected() -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, "the server's answer does not belong to what was asked")
}

/// One request, and whether it was done.
pub(super) struct Simple {
    request: Option<Request>,
    pub(super) answer: io::Result<Reply>,
}

impl Simple {
    pub(super) fn new(request: Request) -> Self {
        Self { request: Some(request), answer: Err(torn()) }
    }

    pub(super) fn done(self) -> io::Result<()> {
        match self.answer? {
            Reply::Done => Ok(()),
            _ => Err(unexpected()),
        }
    }

    pub(super) fn metadata(self) -> io::Result<RemoteMetadata> {
        match self.answer? {
            Reply::Metadata(metadata) => Ok(metadata),
            _ => Err(unexpected()),
        }
    }

    pub(super) fn name(self) -> io::Result<String> {
        match self.answer? {
            Reply::Names(names) => {
                let name = names.into_iter().next().ok_or_else(unexpected)?.name;
                name.map_err(|_| io::Error::new(io::ErrorKind::InvalidData, "a name that is not UTF-8"))
            }
            _ => Err(unexpected()),
        }
    }
}

impl Exchange for Simple {
    fn begin(&mut self) -> Vec<Request> {
        self.request.take().into_iter().collect()
    }

    fn answer(&mut self, _tag: u64, answer: io::Result<Reply>) -> Vec<Request> {
        self.answer = answer;
        Vec::new()
    }
}

/// A folder's names.
pub(super) struct List {
    path: String,
    handle: Option<Vec<u8>>,
    asked: usize,
    is_long: bool,
    names: Vec<RemoteEntry>,
    pub(super) done: Option<io::Result<()>>,
}

impl List {
    pub(super) fn new(path: String) -> Self {
        Self { path, handle: None, asked: 0, is_long: false, names: Vec::new(), done: None }
    }

    pub(super) fn names(self) -> io::Result<Vec<RemoteEntry>> {
        self.done.unwrap_or_else(|| Err(torn())).map(|()| self.names)
    }

    /// Returns whether the connection broke before it was listed.
    pub(super) fn is_torn(&self) -> bool {
        match &self.done {
            Some(Err(error)) => is_torn(error),
            Some(Ok(())) => false,
            None => true,
        }
    }

    fn more(&mut self, count: usize) -> Vec<Request> {
        let Some(handle) = &self.handle else { return Vec::new() };
        let requests = (self.asked..count).map(|_| Request::new(wire::READDIR).bytes(handle)).collect();
        self.asked = self.asked.max(count);
        requests
    }

    fn end(&mut self, done: io::Result<()>) -> Vec<Request> {
        self.done.get_or_insert(done);
        let close = |handle: Vec<u8>| Request::new(wire::CLOSE).bytes(&handle);
        if self.asked == 0 { self.handle.take().map(close).into_iter().collect() } else { Vec::new() }
    }
}

impl Exchange for List {
    fn begin(&mut self) -> Vec<Request> {
        vec![Request::new(wire::OPENDIR).path(&self.path)]
    }

    fn answer(&mut self, _tag: u64, answer: io::Result<Reply>) -> Vec<Request> {
        self.asked = self.asked.saturating_sub(1);
        match answer {
            Ok(Reply::Handle(handle)) => {
                self.handle = Some(handle);
                self.more(LISTINGS.0)
            }
            Ok(Reply::Names(mut names)) => {
                self.names.append(&mut names);
                // After one part, the answer to the second request mostly says that there is no more.
                let is_long = std::mem::replace(&mut self.is_long, true);
                match &self.done {
                    Some(_) => self.end(Ok(())),
                    None if is_long || self.asked == 0 => self.more(LISTINGS.1),
                    None => Vec::new(),
                }
            }
            Ok(Reply::End) => self.end(Ok(())),
            Ok(_) => self.end(Err(unexpected())),
            Err(error) => self.end(Err(error)),
        }
    }
}

/// A part of a file.
pub(super) struct ReadPart {
    path: String,
    handle: Option<Vec<u8>>,
    /// What is to be asked for, and the ends of what was asked for, by where it begins.
    left: VecDeque<Range<u64>>,
    asked: HashMap<u64, u64>,
    start: u64,
    bytes: Vec<u8>,
    /// Where the file ends, as far as that was found out.
    end: u64,
    done: Option<io::Error>,
}

impl ReadPart {
    pub(super) fn new(path: String, range: Range<u64>) -> Self {
        let mut left = VecDeque::new();
        let mut at = range.start;
        while at < range.end {
            let end = (at + CHUNK as u64).min(range.end);
            left.push_back(at..end);
            at = end;
        }
        let length = usize::try_from(range.end.saturating_sub(range.start)).unwrap_or(0);
        let (handle, asked, done) = (None, HashMap::new(), None);
        Self { path, handle, left, asked, start: range.start, bytes: vec![0; length], end: range.end, done }
    }

    pub(super) fn bytes(mut self) -> io::Result<Vec<u8>> {
        if let Some(error) = self.done {
            return Err(error);
        }
        if self.handle.is_none() || !self.left.is_empty() || !self.asked.is_empty() {
            return Err(torn());
        }
        self.bytes.truncate(usize::try_from(self.end.saturating_sub(self.start)).unwrap_or(0));
        Ok(self.bytes)
    }

    fn more(&mut self) -> Vec<Request> {
        let Some(handle) = &self.handle else { return Vec::new() };
        let mut requests = Vec::new();
        while self.asked.len() < PARTS
            && let Some(range) = self.left.pop_front()
        {
            let length = u32::try_from(range.end - range.start).unwrap_or(0);
            let read = Request::new(wire::READ).bytes(handle).long(range.start).number(length);
            requests.push(read.tag(range.start).expects(range.end - range.start));
            self.asked.insert(range.start, range.end);
        }
        if self.asked.is_empty() {
            requests.push(Request::new(wire::CLOSE).bytes(handle));
        }
        requests
    }
}

impl Exchange for ReadPart {
    fn begin(&mut self) -> Vec<Request> {
        vec![Request::new(wire::OPEN).path(&self.path).number(wire::FOR_READING).number(0)]
    }

    fn answer(&mut self, tag: u64, answer: io::Result<Reply>) -> Vec<Request> {
        if self.handle.is_none() {
            match answer {
                Ok(Reply::Handle(handle)) => self.handle = Some(handle),
                Ok(_) => self.done = Some(unexpected()),
                Err(error) => self.done = Some(error),
            }
            return self.more();
        }
        let Some(end) = self.asked.remove(&tag) else { return Vec::new() };
        let range = tag..end;
        match answer {
            Ok(Reply::Data(data)) => {
                let at = usize::try_from(range.start - self.start).unwrap_or(usize::MAX);
                let asked = usize::try_from(range.end - range.start).unwrap_or(0);
                let data = &data[..data.len().min(asked)];
                if let Some(place) = self.bytes.get_mut(at..at + data.len()) {
                    place.copy_from_slice(data);
                }
                if data.is_empty() {
                    self.end = self.end.min(range.start);
                } else if data.len() < asked {
                    // Less than was asked for: the rest of it is asked for again.
                    self.left.push_front(range.start + data.len() as u64..range.end);
                }
            }
            Ok(Reply::End) => {
                self.end = self.end.min(range.start);
                self.left.clear();
            }
            Ok(_) => drop(self.done.get_or_insert_with(unexpected)),
            Err(error) => drop(self.done.get_or_insert(error)),
        }
        if self.done.is_some() {
            self.left.clear();
        }
        self.more()
    }
}

/// A file that is written.
pub(super) struct WriteFile<'f, 'a> {
    file: &'f RemoteFile<'a>,
    reader: Option<Box<dyn Read + Send + 'f>>,
    handle: Option<Vec<u8>>,
    at: u64,
    waits_for: usize,
    /// Whether all was asked for, the end of the file included.
    is_closed: bool,
    metadata: Option<RemoteMetadata>,
    done: Option<io::Error>,
}

impl<'f, 'a> WriteFile<'f, 'a> {
    pub(super) fn new(file: &'f RemoteFile<'a>) -> Self {
        let (reader, handle, metadata, done) = (None, None, None, None);
        Self { file, reader, handle, at: 0, waits_for: 0, is_closed: false, metadata, done }
    }

    /// Returns what the server says of the file once it was written.
    pub(super) fn done(self) -> io::Result<Option<RemoteMetadata>> {
        match self.done {
            Some(error) => Err(error),
            None if self.is_closed && self.waits_for == 0 => Ok(self.metadata),
            None => Err(torn()),
        }
    }

    /// Returns whether the connection broke before it was written.
    pub(super) fn is_torn(&self) -> bool {
        match &self.done {
            Some(error) => is_torn(error),
            None => !self.is_closed || self.waits_for > 0,
        }
    }

    fn fill(&mut self) -> io::Result<Vec<Request>> {
        let Some(handle) = &self.handle else { return Ok(Vec::new()) };
        let mut requests = Vec::new();
        while self.waits_for < PARTS
            && let Some(reader) = &mut self.reader
        {
            let mut chunk = vec![0; CHUNK];
            let mut length = 0;
            while length < CHUNK {
                match reader.read(&mut chunk[length..])? {
                    0 => break,
                    read => length += read,
                }
            }
            if length > 0 {
                let request = Request::new(wire::WRITE).bytes(handle).long(self.at);
                requests.push(request.bytes(&chunk[..length]));
                self.at += length as u64;
                self.waits_for += 1;
            }
            if length < CHUNK {
                self.reader = None;
            }
        }
        if self.reader.is_none() && !std::mem::replace(&mut self.is_closed, true) {
            let RemoteFile { mode, modified, .. } = self.file;
            if mode.is_some() || modified.is_some() {
                let set = Request::new(wire::FSETSTAT).bytes(handle).attributes(*mode, *modified);
                requests.push(set.tag(ATTRIBUTES));
                self.waits_for += 1;
            }
            requests.push(Request::new(wire::FSTAT).bytes(handle).tag(METADATA));
            self.waits_for += 1;
            // What is asked of one file is done in that order, so nothing need be waited for.
            requests.push(Request::new(wire::CLOSE).bytes(handle));
        }
        Ok(requests)
    }

    fn more(&mut self) -> Vec<Request> {
        match self.fill() {
            Ok(requests) => requests,
            Err(error) => {
                self.done.get_or_insert(error);
                Vec::new()
            }
        }
    }
}

impl Exchange for WriteFile<'_, '_> {
    fn begin(&mut self) -> Vec<Request> {
        match (self.file.open)() {
            Ok(reader) => self.reader = Some(reader),
            Err(error) => {
                self.done = Some(error);
                return Vec::new();
            }
        }
        let open = Request::new(wire::OPEN).path(&self.file.path).number(wire::FOR_WRITING);
        vec![open.attributes(self.file.mode, None)]
    }

    fn answer(&mut self, tag: u64, answer: io::Result<Reply>) -> Vec<Request> {
        if self.handle.is_none() {
            match answer {
                Ok(Reply::Handle(handle)) => self.handle = Some(handle),
                Ok(_) => self.done = Some(unexpected()),
                Err(error) => self.done = Some(error),
            }
            return self.more();
        }
        self.waits_for = self.waits_for.saturating_sub(1);
        match answer {
            Ok(Reply::Done) => {}
            Ok(Reply::Metadata(metadata)) if tag == METADATA => self.metadata = Some(metadata),
            Ok(_) => drop(self.done.get_or_insert_with(unexpected)),
            // Not every server lets modes and times be set, or tells them; the bytes are what matters.
            Err(error) if matches!(tag, ATTRIBUTES | METADATA) && !is_torn(&error) => {}
            Err(error) => drop(self.done.get_or_insert(error)),
        }
        if self.done.is_some() {
            self.reader = None;
        }
        self.more()
    }
}
