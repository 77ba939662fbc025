//! JSON. The parser is `jsonc-parser`; the edits are made on the text, at the places it reports.

use jsonc_parser::{
    CollectOptions, ParseOptions,
    ast::{self, ObjectPropName},
    common::Ranged,
    parse_to_ast,
};

use super::{Before, EditDocumentError, ParseDocumentError, Pointer, Value};

fn options() -> ParseOptions {
    ParseOptions {
        allow_comments: true,
        allow_trailing_commas: true,
        allow_loose_object_property_names: false,
        allow_missing_commas: false,
        allow_single_quoted_strings: false,
        allow_hexadecimal_numbers: false,
        allow_unary_plus_numbers: false,
        allow_bare_decimal_point_numbers: false,
        allow_non_finite_numbers: false,
        allow_extended_string_escapes: false,
    }
}

fn parse(text: &str) -> Result<ast::Value<'_>, ParseDocumentError> {
    let bare = text.strip_prefix('\u{feff}').unwrap_or(text);
    if bare.trim().is_empty() {
        return Err(ParseDocumentError::at(text, 0, "the file is empty, and JSON was expected"));
    }
    match parse_to_ast(text, &CollectOptions::default(), &options()) {
        Ok(result) => {
            result.value.ok_or_else(|| ParseDocumentError::at(text, text.len(), "a JSON value was expected"))
        }
        Err(error) => {
            let said = error.kind().to_string();
            Err(ParseDocumentError::at(text, error.range().start, lower_first(&said)))
        }
    }
}

fn lower_first(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or_else(String::new, |first| first.to_lowercase().chain(chars).collect())
}

pub(super) fn check(text: &str) -> Result<(), ParseDocumentError> {
    parse(text).map(|_| ())
}

/// A node's place in the text.
#[derive(Clone, Copy)]
struct Span {
    from: usize,
    to: usize,
}

fn span(of: &impl Ranged) -> Span {
    let range = of.range();
    Span { from: range.start, to: range.end }
}

fn name<'a>(prop: &'a ast::ObjectProp<'_>) -> &'a str {
    match &prop.name {
        ObjectPropName::String(lit) => lit.value.as_ref(),
        ObjectPropName::Word(lit) => lit.value,
    }
}

fn step<'v, 'a>(value: &'v ast::Value<'a>, token: &str) -> Option<&'v ast::Value<'a>> {
    match value {
        // Of a doubled key the last one counts.
        ast::Value::Object(object) => object.properties.iter().rfind(|p| name(p) == token).map(|p| &p.value),
        ast::Value::Array(array) => array.elements.get(token.parse::<usize>().ok()?),
        _ => None,
    }
}

fn find<'v, 'a>(root: &'v ast::Value<'a>, at: &Pointer) -> Option<&'v ast::Value<'a>> {
    at.tokens().iter().try_fold(root, |value, token| step(value, token))
}

fn sort_of(value: &ast::Value<'_>) -> &'static str {
    match value {
        ast::Value::StringLit(_) => "a text",
        ast::Value::NumberLit(_) => "a number",
        ast::Value::BooleanLit(_) => "true or false",
        ast::Value::Object(_) => "a group of keys",
        ast::Value::Array(_) => "a list",
        ast::Value::NullKeyword(_) => "null",
    }
}

fn to_value(value: &ast::Value<'_>) -> serde_json::Value {
    match value {
        ast::Value::StringLit(lit) => serde_json::Value::String(lit.value.to_string()),
        ast::Value::NumberLit(lit) => serde_json::from_str(lit.value).unwrap_or(serde_json::Value::Null),
        ast::Value::BooleanLit(lit) => serde_json::Value::Bool(lit.value),
        ast::Value::NullKeyword(_) => serde_json::Value::Null,
        ast::Value::Array(array) => array.elements.iter().map(to_value).collect(),
        ast::Value::Object(object) => {
            object.properties.iter().map(|prop| (name(prop).to_owned(), to_value(&prop.value))).collect()
        }
    }
}

pub(super) fn get(text: &str, at: &Pointer) -> Option<Value> {
    let root = parse(text).ok()?;
    find(&root, at).map(|value| Value::from(to_value(value)))
}

pub(super) fn keys(text: &str, at: &Pointer) -> Vec<String> {
    let Ok(root) = parse(text) else { return Vec::new() };
    match find(&root, at) {
        Some(ast::Value::Object(object)) => object.properties.iter().map(|p| name(p).to_owned()).collect(),
        _ => Vec::new(),
    }
}

fn write(value: &Value) -> Result<String, EditDocumentError> {
    let json = match value {
        Value::Flag(flag) => serde_json::Value::Bool(*flag),
        Value::Whole(number) => serde_json::Value::from(*number),
        Value::Real(number) => match serde_json::Number::from_f64(*number) {
            Some(number) => serde_json::Value::Number(number),
            None => {
                return Err(EditDocumentError::Unwritable {
                    format: "json",
                    value: number.to_string(),
                    why: "JSON has no such number",
                });
            }
        },
        Value::Text(text) => serde_json::Value::String(text.clone()),
        Value::Compound(json) => json.clone(),
    };
    Ok(json.to_string())
}

/// A container's inside and its children, in the order of the text.
struct Inside {
    from: usize,
    to: usize,
    children: Vec<Span>,
}

fn inside(value: &ast::Value<'_>) -> Option<Inside> {
    let children = match value {
        ast::Value::Object(object) => object.properties.iter().map(span).collect(),
        ast::Value::Array(array) => array.elements.iter().map(span).collect(),
        _ => return None,
    };
    let Span { from, to } = span(value);
    Some(Inside { from: from + 1, to: to - 1, children })
}

impl Inside {
    /// The white space that separates two children here.
    fn separator(&self, text: &str) -> String {
        if let [first, second, ..] = self.children.as_slice() {
            let between = &text[first.to..second.from];
            // Where the second stands on a line of its own, so does what is new; comments between the two stay out of it.
            if let Some(at) = between.rfind('\n').filter(|at| between[*at..].trim().is_empty()) {
                let at = if between[..at].ends_with('\r') { at - 1 } else { at };
                return between[at..].into();
            }
            if let Some((_, space)) = between.split_once(',')
                && space.trim().is_empty()
            {
                return space.into();
            }
        }
        if let [first, ..] = self.children.as_slice() {
            let lead = &text[self.from..first.from];
            if lead.trim().is_empty() && lead.contains('\n') {
                return lead.into();
            }
        }
        " ".into()
    }

    fn insert(&self, text: &mut String, index: usize, new: &str) {
        let separator = self.separator(text);
        match (self.children.get(index), self.children.last()) {
            (Some(next), _) => text.insert_str(next.from, &format!("{new},{separator}")),
            (None, Some(last)) => text.insert_str(last.to, &format!(",{separator}{new}")),
            (None, None) => text.insert_str(self.from, new),
        }
    }

    fn remove(&self, text: &mut String, index: usize) {
        let Some(child) = self.children.get(index) else { return };
        let range = match (self.children.get(index + 1), index.checked_sub(1)) {
            (Some(next), _) => child.from..next.from,
            (None, Some(before)) => self.children[before].to..child.to,
            (None, None) => {
                let lead = &text[self.from..child.from];
                let tail = &text[child.to..self.to];
                let bare = |part: &str| part.chars().all(|c| c.is_whitespace() || c == ',');
                if lead.contains('\n') && bare(lead) && bare(tail) {
                    self.from..self.to
                } else {
                    let comma = tail.trim_start().starts_with(',').then(|| tail.find(',')).flatten();
                    child.from..child.to + comma.map_or(0, |at| at + 1)
                }
            }
        };
        text.replace_range(range, "");
    }
}

pub(super) fn set(text: &mut String, at: &Pointer, value: &Value) -> Result<Before, EditDocumentError> {
    let written = write(value)?;
    let old = text.clone();
    let root = parse(&old)?;
    if let Some(there) = find(&root, at) {
        let Span { from, to } = span(there);
        text.replace_range(from..to, &written);
        return Ok(Before::Text(old[from..to].into()));
    }
    let mut holder = &root;
    let mut depth = 0;
    while let Some(next) = step(holder, &at.tokens()[depth]) {
        holder = next;
        depth += 1;
    }
    if !matches!(holder, ast::Value::Object(_)) {
        return Err(EditDocumentError::OtherSort {
            pointer: prefix(at, depth),
            found: sort_of(holder),
            wanted: "a group of keys",
        });
    }
    let quoted = |token: &String| serde_json::Value::String(token.clone()).to_string();
    let missing = &at.tokens()[depth..];
    let mut new = written;
    for token in missing[1..].iter().rev() {
        new = format!("{{{}: {new}}}", quoted(token));
    }
    let new = format!("{}: {new}", quoted(&missing[0]));
    if let Some(place) = inside(holder) {
        place.insert(text, place.children.len(), &new);
    }
    Ok(Before::Absent { made: missing.len() - 1 })
}

fn prefix(at: &Pointer, depth: usize) -> Pointer {
    let text: String = at.tokens()[..depth].iter().fold(String::new(), |mut text, token| {
        text.push('/');
        text.push_str(&token.replace('~', "~0").replace('/', "~1"));
        text
    });
    Pointer::parse(&text).unwrap_or_else(|_| Pointer::root())
}

pub(super) fn put_back(text: &mut String, at: &Pointer, before: &Before) -> Result<(), EditDocumentError> {
    match before {
        Before::Text(old_value) => {
            let old = text.clone();
            let root = parse(&old)?;
            if let Some(there) = find(&root, at) {
                let Span { from, to } = span(there);
                text.replace_range(from..to, old_value);
            }
        }
        Before::Absent { made } => {
            remove_key(text, at)?;
            for up in 1..=*made {
                let holder = prefix(at, at.tokens().len() - up);
                let old = text.clone();
                let root = parse(&old)?;
                let empty =
                    find(&root, &holder).and_then(inside).is_some_and(|place| place.children.is_empty());
                if !empty {
                    break;
                }
                remove_key(text, &holder)?;
            }
        }
    }
    Ok(())
}

fn remove_key(text: &mut String, at: &Pointer) -> Result<(), EditDocumentError> {
    let Some((last, _)) = at.tokens().split_last() else { return Ok(()) };
    let old = text.clone();
    let root = parse(&old)?;
    let Some(ast::Value::Object(object)) = find(&root, &prefix(at, at.tokens().len() - 1)) else {
        return Ok(());
    };
    let index = object.properties.iter().rposition(|prop| name(prop) == last);
    let (from, to) = (object.range.start + 1, object.range.end - 1);
    let place = Inside { from, to, children: object.properties.iter().map(span).collect() };
    if let Some(index) = index {
        place.remove(text, index);
    }
    Ok(())
}

fn no_list(at: &Pointer, value: &ast::Value<'_>) -> EditDocumentError {
    EditDocumentError::OtherSort { pointer: at.clone(), found: sort_of(value), wanted: "a list" }
}

pub(super) fn items(text: &str, at: &Pointer) -> Result<Vec<String>, EditDocumentError> {
    let root = parse(text)?;
    match find(&root, at) {
        None => Ok(Vec::new()),
        Some(ast::Value::Array(array)) => {
            Ok(array.elements.iter().map(|value| Value::from(to_value(value)).plain()).collect())
        }
        Some(other) => Err(no_list(at, other)),
    }
}

pub(super) fn insert(
    text: &mut String,
    at: &Pointer,
    index: usize,
    item: &str,
) -> Result<Before, EditDocumentError> {
    let written = write(&Value::Text(item.into()))?;
    let old = text.clone();
    let root = parse(&old)?;
    match find(&root, at) {
        Some(list @ ast::Value::Array(_)) => {
            if let Some(place) = inside(list) {
                place.insert(text, index.min(place.children.len()), &written);
            }
            Ok(Before::Absent { made: 0 })
        }
        Some(other) => Err(no_list(at, other)),
        None => {
            let list = serde_json::Value::Array(vec![serde_json::Value::String(item.into())]);
            match set(text, at, &Value::Compound(list))? {
                Before::Absent { made } => Ok(Before::Absent { made: made + 1 }),
                before @ Before::Text(_) => Ok(before),
            }
        }
    }
}

pub(super) fn remove(text: &mut String, at: &Pointer, index: usize) -> Result<(), EditDocumentError> {
    let old = text.clone();
    let root = parse(&old)?;
    match find(&root, at) {
        None => Ok(()),
        Some(list @ ast::Value::Array(_)) => {
            if let Some(place) = inside(list) {
                place.remove(text, index);
            }
            Ok(())
        }
        Some(other) => Err(no_list(at, other)),
    }
}
