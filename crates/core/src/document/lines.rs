//! One item a line. Comments begin with `#`.

use super::{
    ParseDocumentError, Value,
    lined::{cut_lines, lines, put_line},
    node::{Body, Node, Syntax, Why},
};

/// The format.
pub(super) struct Lines;

fn plain(value: &Value) -> Result<String, Why> {
    let item = value.scalar()?;
    if item.is_empty() || item.trim() != item.as_str() || item.contains(['#', '\n', '\r']) {
        return Err("an item is one line without '#' and without white space around it");
    }
    Ok(item)
}

impl Syntax for Lines {
    fn parse(&self, text: &str) -> Result<Node, ParseDocumentError> {
        let mut found = Vec::new();
        for line in lines(text) {
            let item = line.text.split('#').next().unwrap_or_default().trim();
            if !item.is_empty() {
                let leaf = Node::leaf("", line.start()..line.start() + item.len(), Value::Text(item.into()));
                found.push(leaf.within(line.from..line.to));
            }
        }
        Ok(Node::holder("", 0..text.len(), Body::List(found)))
    }

    fn leaf(&self, _: &str, _: &Node, value: &Value) -> Result<String, Why> {
        plain(value)
    }

    fn add(&self, text: &mut String, into: &Node, at: usize, _: &str, value: &Value) -> Result<(), Why> {
        let children = into.children();
        // Behind its forerunner, so that comments above the next item stay with that item.
        let place = match (children.get(at), at.checked_sub(1).and_then(|before| children.get(before))) {
            (Some(_), Some(before)) => before.whole.end,
            (Some(next), None) => next.whole.start,
            (None, _) => into.tail,
        };
        put_line(text, place, &plain(value)?);
        Ok(())
    }

    fn cut(&self, text: &mut String, from: &Node, child: usize) {
        let whole = from.children()[child].whole.clone();
        cut_lines(text, whole.start, whole.end);
    }

    fn depth(&self) -> usize {
        0
    }

    fn comment(&self) -> Option<&'static str> {
        Some("#")
    }
}
