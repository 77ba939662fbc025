//! `[[limit]]`: bounds on the sizes of files that players download.

use std::slice;

use super::{Checked, Loader, check_globs, template};
use crate::game::{
    Limit, LimitRule,
    raw::{RawLimit, Text},
};

const UNITS: &[(&str, u64)] = &[
    ("bytes", 1),
    ("KB", 1_000),
    ("KiB", 1 << 10),
    ("MB", 1_000_000),
    ("MiB", 1 << 20),
    ("GB", 1_000_000_000),
];

fn unit(text: &Text, name: &str) -> Checked<u64> {
    let found = UNITS.iter().find(|(known, _)| *known == name).map(|(_, bytes)| *bytes);
    found.ok_or_else(|| {
        let known: Vec<&str> = UNITS.iter().map(|(known, _)| *known).collect();
        (text.span(), format!("{name:?} is none of {}", known.join(", ")))
    })
}

/// Reads a size as people write it: `24 MB`.
pub(super) fn size(text: &Text) -> Checked<u64> {
    let whole = text.as_ref().trim();
    let (number, name) = whole.split_once(' ').unwrap_or((whole, "bytes"));
    let wrong = || (text.span(), format!("{whole:?} is not a size; write it as \"24 MB\""));
    let number: u64 = number.parse().map_err(|_| wrong())?;
    number.checked_mul(unit(text, name.trim())?).ok_or_else(wrong)
}

impl Loader {
    pub(super) fn limit(&self, raw: &RawLimit) -> Checked<LimitRule> {
        check_globs(slice::from_ref(&raw.take))?;
        let most = match (&raw.at, &raw.most) {
            (Some(at), None) => {
                let unit = raw.unit.as_ref().map(|text| unit(text, text.as_ref())).transpose()?;
                Limit::At(self.place(at, raw.form.as_ref(), &self.server)?, unit.unwrap_or(1))
            }
            (None, Some(most)) => Limit::Bytes(size(most)?),
            _ => {
                let why = "a limit has either \"at\", where its value is, or \"most\", a size";
                return Err((raw.take.span(), why.into()));
            }
        };
        let unless = raw.unless.as_ref().map(|at| self.place(at, None, &self.server)).transpose()?;
        Ok(LimitRule { take: template(&raw.take, &self.server)?, most, unless })
    }
}
