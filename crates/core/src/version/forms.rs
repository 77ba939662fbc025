//! The forms in which people write ranges, read into parts.

use std::borrow::Cow;

use super::{Piece, ReleaseVersion, compare_keys, drop_zeros, part::Part, pre_rank};

/// Cuts a text at `||` and `|`, and where one range in brackets follows another. An empty text is any version.
pub(super) fn alternatives(text: &str) -> Result<Vec<&str>, String> {
    if text.trim().is_empty() {
        return Ok(vec!["*"]);
    }
    let mut found = Vec::with_capacity(1);
    for part in text.split("||").flat_map(|part| part.split('|')) {
        let mut rest = part;
        // `(,1.0],[1.2,)`: a comma between brackets is an "or".
        while rest.trim_start().starts_with(['[', '(']) {
            let end = rest.find([']', ')']).ok_or_else(|| format!("{rest:?} has no closing bracket"))? + 1;
            found.push(&rest[..end]);
            rest = rest[end..].trim_start();
            rest = rest.strip_prefix(',').unwrap_or(rest);
            if rest.trim().is_empty() {
                break;
            }
        }
        if !rest.trim().is_empty() || part.trim().is_empty() {
            found.push(rest);
        }
    }
    Ok(found)
}

/// Cuts at commas and white space, but keeps an operator with the version that follows it (`>= 1.2`), a version with its
/// word (`1.0 beta`), a stretch with its dash (`1.2 - 2.0`), and what is in brackets.
pub(super) fn words(text: &str) -> Result<Vec<Cow<'_, str>>, String> {
    let text = text.trim();
    if text.starts_with(['[', '(']) {
        return Ok(vec![Cow::Borrowed(text)]);
    }
    let mut words: Vec<Cow<'_, str>> = Vec::with_capacity(1);
    let mut glue = false;
    for word in text.split([',', ' ', '\t', '\n']).filter(|word| !word.is_empty()) {
        let is_label = pre_rank(&word.to_ascii_lowercase(), false, true).is_some();
        match words.last_mut() {
            Some(last) if glue => *last = Cow::Owned(format!("{last}{word}")),
            Some(last) if is_label => *last = Cow::Owned(format!("{last} {word}")),
            Some(last) if word == "-" => {
                *last = Cow::Owned(format!("{last}.."));
                glue = true;
                continue;
            }
            _ => words.push(Cow::Borrowed(word)),
        }
        glue = words.last().is_some_and(|word| word.chars().all(|c| OPERATORS.contains(c)));
    }
    if glue {
        return Err(format!("{:?} names no version", words.last().map_or("", |word| word)));
    }
    Ok(words)
}

const OPERATORS: &str = "<>=^~!";

fn version(text: &str) -> Result<ReleaseVersion, String> {
    ReleaseVersion::parse(text.trim()).map_err(|error| error.to_string())
}

fn below(shown: ReleaseVersion) -> Part {
    let mut key = shown.0.key.clone();
    if !shown.is_prerelease() {
        key.push(Piece::Floor);
    }
    Part::Below { key, shown }
}

/// Reads one form into the parts that must all hold.
pub(super) fn read(word: &str, parts: &mut Vec<Part>) -> Result<(), String> {
    if matches!(word, "*" | "x" | "X") {
        parts.push(Part::Any);
        return Ok(());
    }
    if word.starts_with(['[', '(']) {
        return brackets(word, parts);
    }
    if let Some((from, to)) = word.split_once("..") {
        parts.extend([Part::AtLeast(version(from)?), Part::AtMost(version(to)?)]);
        return Ok(());
    }
    let at = word.find(|c| !OPERATORS.contains(c)).ok_or_else(|| format!("{word:?} names no version"))?;
    let (operator, rest) = word.split_at(at);
    if let Some(stem) = [".*", ".x", ".X"].iter().find_map(|end| rest.strip_suffix(end)) {
        return match operator {
            "" | "=" | "==" | "^" | "~" => {
                let numbers = numbers_of(stem)?;
                let step = if operator == "^" { first_number(&numbers) } else { numbers.len() - 1 };
                parts.push(like(format!("{}.x", join(&numbers)), floor(&numbers), &numbers, step));
                Ok(())
            }
            ">=" => {
                parts.push(Part::AtLeast(version(stem)?));
                Ok(())
            }
            _ => {
                Err(format!("{word:?} has both a sign and a \"*\"; \"{operator}{stem}\" was probably meant"))
            }
        };
    }
    if let Some(stem) = rest.strip_suffix('+').filter(|_| operator.is_empty()) {
        parts.push(Part::AtLeast(version(stem)?));
        return Ok(());
    }
    let named = version(rest)?;
    parts.push(match operator {
        "" | "=" | "==" => Part::Exactly(named),
        "!=" => Part::Not(named),
        ">=" | "=>" => Part::AtLeast(named),
        ">" => Part::Above(named),
        "<=" | "=<" => Part::AtMost(named),
        "<" => below(named),
        "^" | "~" | "~>" => {
            let main: String =
                unprefixed(rest).chars().take_while(|c| c.is_ascii_digit() || *c == '.').collect();
            let numbers = numbers_of(main.trim_end_matches('.'))?;
            let step = match operator {
                "^" => first_number(&numbers),
                // `~1.2` goes up to 1.3, and `~>1.2` up to 2.
                "~" => numbers.len().min(2) - 1,
                _ => numbers.len().saturating_sub(2),
            };
            let within = join(&numbers[..=step]);
            like(format!("{named} or newer within {within}"), named.0.key.clone(), &numbers, step)
        }
        other => return Err(format!("{other:?} is not an operator")),
    });
    Ok(())
}

/// Reads `[1.0,2.0)`: a square bracket takes its end along, a round one does not.
fn brackets(word: &str, parts: &mut Vec<Part>) -> Result<(), String> {
    let closing = word.chars().last().filter(|c| matches!(c, ']' | ')'));
    let (Some(closing), Some(inner)) = (closing, word.get(1..word.len() - 1)) else {
        return Err(format!("{word:?} has no closing bracket"));
    };
    let Some((from, to)) = inner.split_once(',') else {
        if word.starts_with('[') && closing == ']' {
            parts.push(Part::Exactly(version(inner)?));
            return Ok(());
        }
        return Err(format!(
            "{word:?} names one version and leaves it out; \"[{inner}]\" was probably meant"
        ));
    };
    match from.trim() {
        "" => {}
        from if word.starts_with('[') => parts.push(Part::AtLeast(version(from)?)),
        from => parts.push(Part::Above(version(from)?)),
    }
    match to.trim() {
        "" => {}
        to if closing == ']' => parts.push(Part::AtMost(version(to)?)),
        to => parts.push(below(version(to)?)),
    }
    if parts.is_empty() {
        parts.push(Part::Any);
    }
    Ok(())
}

/// Returns why some parts can never all hold, and what was probably meant.
pub(super) fn contradiction(parts: &[Part]) -> Option<String> {
    let exact: Vec<&ReleaseVersion> = parts
        .iter()
        .filter_map(|part| if let Part::Exactly(version) = part { Some(version) } else { None })
        .collect();
    if let [first, second, ..] = exact[..]
        && first.compare_precedence(second).is_ne()
    {
        let meant: Vec<&str> = exact.iter().map(|version| version.as_str()).collect();
        return Some(format!(
            "no version is {first} and {second}; \"{}\" was probably meant",
            meant.join(" || ")
        ));
    }
    let mut lowest: Option<(&[Piece], bool)> = None;
    let mut highest: Option<(&[Piece], bool)> = None;
    let mut low = |key, open: bool| {
        if lowest.is_none_or(|(known, is_open)| compare_keys(key, known).then(open.cmp(&is_open)).is_gt()) {
            lowest = Some((key, open));
        }
    };
    let mut high = |key, open: bool| {
        if highest.is_none_or(|(known, is_open)| compare_keys(key, known).then(is_open.cmp(&open)).is_lt()) {
            highest = Some((key, open));
        }
    };
    for part in parts {
        match part {
            Part::Any | Part::Not(_) => {}
            Part::Exactly(version) => {
                low(&version.0.key, false);
                high(&version.0.key, false);
            }
            Part::AtLeast(version) => low(&version.0.key, false),
            Part::Above(version) => low(&version.0.key, true),
            Part::AtMost(version) => high(&version.0.key, false),
            Part::Below { key, .. } => high(key, true),
            Part::Like { from, below, .. } => {
                low(from, false);
                high(below, true);
            }
        }
    }
    let ((from, from_open), (to, to_open)) = (lowest?, highest?);
    let order = compare_keys(from, to);
    let is_empty = order.is_gt() || order.is_eq() && (from_open || to_open);
    is_empty.then(|| {
        let words: Vec<String> = parts.iter().map(Part::in_words).collect();
        format!("no version is {}", words.join(" and "))
    })
}

/// Drops a `v` or the like before a number.
fn unprefixed(text: &str) -> &str {
    text.trim_start_matches(|c: char| c.is_ascii_alphabetic())
}

fn numbers_of(stem: &str) -> Result<Vec<u64>, String> {
    unprefixed(stem)
        .split('.')
        .map(|n| n.parse().map_err(|_| format!("{stem:?} must be numbers with dots here")))
        .collect()
}

fn first_number(numbers: &[u64]) -> usize {
    numbers.iter().position(|n| *n > 0).unwrap_or(numbers.len() - 1)
}

fn join(numbers: &[u64]) -> String {
    numbers.iter().map(ToString::to_string).collect::<Vec<_>>().join(".")
}

fn floor(numbers: &[u64]) -> Vec<Piece> {
    let mut key: Vec<Piece> = numbers.iter().map(|n| Piece::Number(*n)).collect();
    drop_zeros(&mut key);
    key.push(Piece::Floor);
    key
}

/// From `from` up to where the number at `step` goes up by one.
fn like(shown: String, from: Vec<Piece>, numbers: &[u64], step: usize) -> Part {
    let mut next = numbers[..=step].to_vec();
    next[step] = next[step].saturating_add(1);
    Part::Like { shown, from, below: floor(&next) }
}
