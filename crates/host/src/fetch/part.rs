//! Which part of a file an answer is, and whether it comes quickly enough.

use std::time::{Duration, Instant};

use reqwest::{Response, StatusCode, header};

use super::{PaceLimits, partial::Partial};

/// The part of a file that an answer says it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Part {
    pub(super) from: u64,
    /// Where it ends, one behind the last byte.
    pub(super) end: u64,
    pub(super) total: Option<u64>,
}

impl Part {
    pub(super) fn of(response: &Response) -> Option<Self> {
        Self::parse(response.headers().get(header::CONTENT_RANGE)?.to_str().ok()?)
    }

    pub(super) fn parse(text: &str) -> Option<Self> {
        let (range, total) = text.strip_prefix("bytes ")?.trim().split_once('/')?;
        let (from, last) = range.split_once('-')?;
        let (from, last) = (from.trim().parse().ok()?, last.trim().parse::<u64>().ok()?);
        let total = if total.trim() == "*" { None } else { Some(total.trim().parse().ok()?) };
        let end = last.checked_add(1)?;
        (from < end && total.is_none_or(|total| end <= total)).then_some(Self { from, end, total })
    }
}

/// How an answer goes on with what is there.
pub(super) enum GoesOn {
    /// It is the whole file.
    Whole,
    /// It is the rest, from a byte on, up to another.
    Rest(Part),
    /// It is none that was asked for.
    Not(&'static str),
}

pub(super) fn goes_on(response: &Response, asked: u64, partial: &Partial, size: Option<u64>) -> GoesOn {
    if response.status() != StatusCode::PARTIAL_CONTENT {
        return GoesOn::Whole;
    }
    if partial.length() == 0 {
        return GoesOn::Not("it answers with a part of the file, and the whole was asked for");
    }
    let Some(part) = Part::of(response) else {
        return GoesOn::Not("it answers with a part of the file and does not say which");
    };
    if part.from != asked {
        return GoesOn::Not("it answers with another part of the file than was asked for");
    }
    if response.content_length().is_some_and(|length| length != part.end - part.from) {
        return GoesOn::Not("it answers with more or less than it says");
    }
    let tag = response.headers().get(header::ETAG).and_then(|tag| tag.to_str().ok());
    let is_other = tag.is_some_and(|tag| {
        partial.validator.same_if.as_deref().is_some_and(|known| known.starts_with('"') && known != tag)
    });
    let other_size = part.total.is_some_and(|total| size.is_some_and(|size| size != total));
    if is_other || other_size {
        return GoesOn::Not("the file is another one than before");
    }
    GoesOn::Rest(part)
}

/// Whether something comes at least as quickly as can be waited for.
pub(super) struct Pace {
    limits: PaceLimits,
    since: Instant,
    pub(super) came: u64,
}

impl Pace {
    pub(super) fn new(limits: PaceLimits) -> Self {
        Self { limits, since: Instant::now(), came: 0 }
    }

    /// How long to wait before it is looked at.
    pub(super) fn left(&mut self) -> Duration {
        if self.since.elapsed() >= self.limits.window && self.came >= self.limits.least {
            (self.since, self.came) = (Instant::now(), 0);
        }
        self.limits.window.saturating_sub(self.since.elapsed())
    }

    /// The message if the download is too slow.
    pub(super) fn told(&self) -> String {
        format!("it is too slow: {} bytes in {} s", self.came, self.limits.window.as_secs().max(1))
    }

    pub(super) fn is_too_slow(&self) -> bool {
        self.since.elapsed() >= self.limits.window && self.came < self.limits.least
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_are_what_they_say_or_none() {
        let part = |text| Part::parse(text).map(|part| (part.from, part.end, part.total));
        assert_eq!(part("bytes 5-9/10"), Some((5, 10, Some(10))));
        assert_eq!(part("bytes 0-0/*"), Some((0, 1, None)));
        for text in [
            "",
            "bytes 5-4/10",
            "bytes 5-10/10",
            "bytes */10",
            "bytes 5-/10",
            "items 5-9/10",
            "bytes 0-18446744073709551615/*",
        ] {
            assert_eq!(part(text), None, "{text}");
        }
    }
}
