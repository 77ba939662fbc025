//! Lists in one text, separated by a sign: `a; b;c`.

use super::{Turn, turns};

/// Returns the text with other items.
pub(super) fn replaced(now: &str, separator: &str, parts: &[String]) -> String {
    let sign = separator.trim();
    let pieces: Vec<&str> = now.split(sign).collect();
    let items: Vec<&str> =
        pieces.iter().map(|piece| piece.trim()).filter(|piece| !piece.is_empty()).collect();
    if items.is_empty() || parts.is_empty() {
        return parts.join(separator);
    }
    let lead_of = |piece: &str| piece[..piece.len() - piece.trim_start().len()].to_owned();
    // The gap that a second item has tells what gap a new one gets; one alone tells nothing.
    let gap = match pieces.get(1) {
        Some(second) if second.starts_with([' ', '\t']) => " ",
        Some(_) => "",
        None => &separator[separator.find(sign).map_or(0, |at| at + sign.len())..],
    };
    let mut done: Vec<String> = Vec::new();
    let mut old = pieces.iter().peekable();
    // What the first item had before it is had by whatever comes first.
    let mut first_lead = None;
    // Empty pieces before an item go where the item goes.
    let take = |old: &mut std::iter::Peekable<std::slice::Iter<'_, &str>>, done: &mut Vec<String>| {
        for piece in old.by_ref() {
            if !piece.trim().is_empty() {
                return (*piece).to_owned();
            }
            done.push((*piece).to_owned());
        }
        String::new()
    };
    let mut is_first = true;
    for turn in turns(&items, parts) {
        match turn {
            Turn::Keep => {
                let piece = take(&mut old, &mut done);
                let piece = match first_lead.take() {
                    Some(lead) => format!("{lead}{}", piece.trim_start()),
                    None => piece,
                };
                done.push(piece);
                is_first = false;
            }
            Turn::Drop => {
                let piece = take(&mut old, &mut done);
                if is_first {
                    first_lead = first_lead.or_else(|| Some(lead_of(&piece)));
                }
            }
            Turn::Put(item) if is_first => {
                let lead = first_lead.take().unwrap_or_else(|| lead_of(pieces.first().unwrap_or(&"")));
                done.push(format!("{lead}{item}"));
                first_lead = Some(gap.to_owned());
                // The lead of the next one is the list's gap from now on.
                is_first = false;
            }
            Turn::Put(item) => {
                let lead = first_lead.clone().unwrap_or_else(|| gap.to_owned());
                done.push(format!("{lead}{item}"));
            }
        }
    }
    done.extend(old.map(|piece| (*piece).to_owned()));
    done.join(sign)
}
