//! What the parser says of a text, in its words and in ours.

use std::borrow::Cow;

use saphyr_parser::{Event, Parser, Span, Tag};

use crate::document::{ParseDocumentError, lined::line_start, node::DEEPEST};

type Parsed<T> = Result<T, ParseDocumentError>;

/// Returns the events of a text's first document.
///
/// The parser wants lines in brackets indented, as the specification does; all others read them however they are, and so
/// people write them: such a line is given to it with more white space. Nothing else is asked of it that tells where something
/// lies.
pub(super) fn events_of(text: &str) -> Parsed<Vec<(Event<'static>, Span)>> {
    const MOST: usize = 100;
    let mut wide = String::new();
    let mut indented: Vec<usize> = Vec::new();
    loop {
        let given = if indented.is_empty() { text } else { &wide };
        let byte = |index: usize| given.char_indices().nth(index).map_or(given.len(), |(at, _)| at);
        let (index, says) = match read_events(given) {
            Ok(events) => return Ok(events),
            Err(why) => why,
        };
        let at = byte(index);
        let line = given[..at].matches('\n').count();
        if says != BADLY_INDENTED || indented.contains(&line) || indented.len() == MOST {
            let added = indented.iter().filter(|before| **before <= line).count() * WIDE.len();
            return Err(ParseDocumentError::at(text, at.saturating_sub(added), in_words(&says)));
        }
        let start = line_start(given, at);
        wide = format!("{}{WIDE}{}", &given[..start], &given[start..]);
        indented.push(line);
    }
}

const BADLY_INDENTED: &str = "invalid indentation";
const WIDE: &str = "                                                                ";

fn read_events(text: &str) -> Result<Vec<(Event<'static>, Span)>, (usize, String)> {
    let (mut events, mut documents, mut depth) = (Vec::new(), 0, 0_usize);
    for event in Parser::new_from_str(text) {
        let (event, span) = event.map_err(|error| (error.marker().index(), error.info().to_owned()))?;
        match event {
            Event::MappingStart(..) | Event::SequenceStart(..) => depth += 1,
            Event::MappingEnd | Event::SequenceEnd => depth = depth.saturating_sub(1),
            _ => {}
        }
        if depth > DEEPEST {
            return Err((span.start.index(), "lists and groups lie too deep in each other".into()));
        }
        match event {
            Event::DocumentStart(_) => documents += 1,
            Event::DocumentEnd => break,
            Event::StreamStart | Event::StreamEnd | Event::Nothing => {}
            event if documents == 1 => events.push((owned(event), span)),
            _ => {}
        }
    }
    Ok(events)
}

/// Returns an event that borrows nothing.
fn owned(event: Event<'_>) -> Event<'static> {
    let tag = |tag: Option<Cow<'_, Tag>>| tag.map(|tag| Cow::Owned(tag.into_owned()));
    match event {
        Event::Scalar(says, style, anchor, of) => {
            Event::Scalar(Cow::Owned(says.into_owned()), style, anchor, tag(of))
        }
        Event::SequenceStart(anchor, of) => Event::SequenceStart(anchor, tag(of)),
        Event::MappingStart(anchor, of) => Event::MappingStart(anchor, tag(of)),
        Event::Alias(anchor) => Event::Alias(anchor),
        Event::SequenceEnd => Event::SequenceEnd,
        Event::MappingEnd => Event::MappingEnd,
        Event::DocumentStart(explicit) => Event::DocumentStart(explicit),
        Event::DocumentEnd => Event::DocumentEnd,
        Event::StreamStart => Event::StreamStart,
        Event::StreamEnd => Event::StreamEnd,
        Event::Nothing => Event::Nothing,
    }
}

/// Returns what the parser says in words that people have for it.
fn in_words(said: &str) -> String {
    [
        ("flow sequence", "list in brackets"),
        ("flow mapping", "group in braces"),
        ("block collection", "list"),
        ("block sequence", "list"),
        ("block mapping", "group"),
        ("block scalar", "long text"),
        ("quoted scalar", "text in quotes"),
        ("plain scalar", "text"),
        ("while parsing", "in"),
        ("did not find expected", "expected"),
    ]
    .iter()
    .fold(said.to_owned(), |said, (from, to)| said.replace(from, to))
}
