//! What formats share that keep groups and lists between brackets, apart by commas.

use super::node::Node;

/// Returns the white space that separates two children here.
fn separator(text: &str, holder: &Node) -> String {
    let children = holder.children();
    if let [first, second, ..] = children {
        let between = &text[first.whole.end..second.whole.start];
        // Where the second stands on a line of its own, so does what is new; comments between the two stay out of it.
        if let Some(at) = between.rfind('\n').filter(|at| between[*at..].trim().is_empty()) {
            let at = if between[..at].ends_with('\r') { at - 1 } else { at };
            return between[at..].into();
        }
        if let Some((_, space)) = between.split_once([',', ';'])
            && space.trim().is_empty()
        {
            return space.into();
        }
    }
    if let [first, ..] = children {
        let lead = &text[holder.span.start + 1..first.whole.start];
        if lead.trim().is_empty() && lead.contains('\n') {
            return lead.into();
        }
    }
    " ".into()
}

/// Puts a written child before the one at `at`, or behind all.
pub(super) fn add(text: &mut String, holder: &Node, at: usize, new: &str) {
    let separator = separator(text, holder);
    let children = holder.children();
    match (children.get(at), children.last()) {
        (Some(next), _) => text.insert_str(next.whole.start, &format!("{new},{separator}")),
        (None, Some(last)) => text.insert_str(last.whole.end, &format!(",{separator}{new}")),
        (None, None) => text.insert_str(holder.span.start + 1, new),
    }
}

/// Takes a child out.
pub(super) fn cut(text: &mut String, holder: &Node, child: usize) {
    let children = holder.children();
    let Some(gone) = children.get(child) else { return };
    let (from, to) = (gone.whole.start, gone.whole.end);
    let range = match (children.get(child + 1), child.checked_sub(1)) {
        (Some(next), _) => from..next.whole.start,
        (None, Some(before)) => children[before].whole.end..to,
        (None, None) => {
            let (inner, outer) = (holder.span.start + 1, holder.span.end - 1);
            let (lead, tail) = (&text[inner..from], &text[to..outer]);
            let bare = |part: &str| part.chars().all(|c| c.is_whitespace() || c == ',' || c == ';');
            if lead.contains('\n') && bare(lead) && bare(tail) {
                inner..outer
            } else {
                let comma =
                    tail.trim_start().starts_with([',', ';']).then(|| tail.find([',', ';'])).flatten();
                from..to + comma.map_or(0, |at| at + 1)
            }
        }
    };
    text.replace_range(range, "");
}
