//! What `-v` tells: what was asked of whom, and how long it took. The events come from where the work is done.

use std::fmt::Write as _;

use tracing::{
    Event, Level, Metadata, Subscriber,
    field::{Field, Visit},
    span::{Attributes, Id, Record},
};

/// Hands each event's sentence on.
pub(crate) struct Events<T: Fn(&str) + Send + Sync + 'static>(pub(crate) T);

/// An event's sentence.
#[derive(Default)]
struct Sentence(String);

impl Visit for Sentence {
    fn record_debug(&mut self, field: &Field, value: &dyn std::fmt::Debug) {
        if field.name() == "message" {
            let _written = write!(self.0, "{value:?}");
        }
    }
}

impl<T: Fn(&str) + Send + Sync + 'static> Subscriber for Events<T> {
    fn enabled(&self, metadata: &Metadata<'_>) -> bool {
        // What the libraries say is for their authors.
        metadata.target().starts_with("yalotheca") && *metadata.level() <= Level::DEBUG
    }

    fn event(&self, event: &Event<'_>) {
        let mut sentence = Sentence::default();
        event.record(&mut sentence);
        (self.0)(&sentence.0);
    }

    fn new_span(&self, _: &Attributes<'_>) -> Id {
        Id::from_u64(1)
    }
    fn record(&self, _: &Id, _: &Record<'_>) {}
    fn record_follows_from(&self, _: &Id, _: &Id) {}
    fn enter(&self, _: &Id) {}
    fn exit(&self, _: &Id) {}
}
