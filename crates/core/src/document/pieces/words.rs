//! Lists in one text, separated by white space: `a  b`.

use super::{Turn, turns};

/// Returns the text with other items.
pub(super) fn replaced(now: &str, separator: &str, parts: &[String]) -> String {
    let items: Vec<&str> = now.split_whitespace().collect();
    let gap = if separator.is_empty() { " " } else { separator };
    if items.is_empty() || parts.is_empty() {
        return parts.join(gap);
    }
    let (mut done, mut rest) = (String::new(), now);
    // Whether an item was written, and whether the gap before the next one goes with an item that went.
    let (mut written, mut skip) = (false, false);
    let lead_length = |rest: &str| rest.len() - rest.trim_start().len();
    for turn in turns(&items, parts) {
        match turn {
            Turn::Put(item) if written => {
                done += gap;
                done += item;
            }
            Turn::Put(item) => {
                let lead = lead_length(rest);
                done += &rest[..lead];
                rest = &rest[lead..];
                done += item;
                done += gap;
                // The next one follows at once, unless it goes.
                written = true;
                skip = true;
            }
            Turn::Keep | Turn::Drop => {
                let lead = lead_length(rest);
                let word = rest[lead..].find(char::is_whitespace).map_or(rest.len(), |at| lead + at);
                if turn == Turn::Keep {
                    done += if skip { &rest[lead..word] } else { &rest[..word] };
                    (written, skip) = (true, false);
                } else if !written {
                    // The gap before the first one stays, and the one behind it goes.
                    done += if skip { "" } else { &rest[..lead] };
                    skip = true;
                }
                rest = &rest[word..];
            }
        }
    }
    let done = if skip { done.trim_end().to_owned() } else { done };
    done + rest
}
