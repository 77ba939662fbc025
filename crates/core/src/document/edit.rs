//! The edits of every format, on the tree that its parser makes.

use super::{
    Before, Document, EditDocumentError, Pointer, Value,
    guard::{self, Change},
    node::{Body, Form, Node, Syntax, Why},
};

const REPEATED: Why = "the file has aliases, and other values than this one would change";

impl Document {
    fn unwritable(&self, value: impl Into<String>, why: Why) -> EditDocumentError {
        EditDocumentError::Unwritable { format: self.format.name(), value: value.into(), why }
    }

    /// Edits the text, and reads it again. A text that could not be read afterwards, or in which anything but what the change is
    /// about reads otherwise, is not kept.
    fn edit<T>(
        &mut self,
        edit: impl FnOnce(&dyn Syntax, &mut String, &Node) -> Result<T, Why>,
        change: &Change<'_>,
        what: impl Fn() -> String,
    ) -> Result<T, EditDocumentError> {
        let syntax = self.format.syntax();
        let mut text = self.text.clone();
        match edit(&*syntax, &mut text, &self.root) {
            Ok(done) => {
                if text != self.text {
                    let refused = |why| EditDocumentError::Unsafe {
                        format: self.format.name(),
                        value: what(),
                        // What an alias repeats would change in both places, or the alias would lead nowhere.
                        why: if self.root.has_alias() { REPEATED } else { why },
                    };
                    let root = super::read(&*syntax, &text)
                        .map_err(|_| refused("the file could not be read afterwards"))?;
                    guard::check(&self.root, &root, change).map_err(refused)?;
                    self.root = root;
                    self.text = text;
                }
                Ok(done)
            }
            Err(why) => Err(self.unwritable(what(), why)),
        }
    }

    /// Sets the value at a place and returns what stood there.
    ///
    /// # Errors
    /// Where the format has no such place, the place is inside something else, or the value cannot be written.
    pub fn set(&mut self, at: &Pointer, value: &Value) -> Result<Before, EditDocumentError> {
        let tokens = at.tokens();
        let depth = self.format.syntax().depth();
        if tokens.is_empty() && (depth != usize::MAX || self.root.form == Form::Open) {
            return Err(self.no_place(at));
        }
        if let Some(there) = self.root.find(tokens) {
            let (span, same) = (there.outer(), there.value() == *value);
            let before = Before::Text(self.text[span.clone()].into());
            if !same {
                self.edit(
                    |syntax, text, root| {
                        let old = root.find(tokens).ok_or("it is gone")?;
                        let new = syntax.leaf(text, old, value)?;
                        text.replace_range(span, &new);
                        Ok(())
                    },
                    &Change::Replaced { at: tokens, value: Some(value) },
                    || value.plain(),
                )?;
            }
            return Ok(before);
        }
        if tokens.len() > depth {
            return Err(self.no_place(at));
        }
        let (holder, met) = self.root.nearest(tokens);
        let missing = &tokens[met..];
        if !self.format.has_empty_names() && missing.iter().any(String::is_empty) {
            return Err(self.unwritable("", "it cannot be a name"));
        }
        let nested = missing[1..].iter().rev().fold(value.clone(), |inner, token| {
            let mut map = serde_json::Map::new();
            map.insert(token.clone(), inner.to_json());
            Value::Compound(serde_json::Value::Object(map))
        });
        let what = || format!("{}: {value}", missing.join("/"));
        match (&holder.body, holder.form) {
            (Body::Group(children), form) => {
                let end = children.len();
                // What is written in one piece may be opened for it.
                let open = form == Form::Open && end > 0;
                let whole = open.then(|| self.text[holder.outer()].to_owned());
                self.edit(
                    |syntax, text, root| syntax.add(text, root.nearest(tokens).0, end, &missing[0], &nested),
                    &Change::Added { at: tokens, value },
                    what,
                )?;
                let headed = form == Form::Dotted
                    && self.root.find(&tokens[..met]).is_some_and(|holder| holder.form == Form::Section);
                Ok(match whole {
                    Some(text) => Before::Instead { up: missing.len(), text },
                    None => Before::Absent { made: missing.len() - 1 + usize::from(headed) },
                })
            }
            (Body::Leaf(_), Form::Open) => {
                let mut map = serde_json::Map::new();
                map.insert(missing[0].clone(), nested.to_json());
                self.fill(at, met, &Value::Compound(serde_json::Value::Object(map)))
            }
            _ => Err(EditDocumentError::OtherSort {
                pointer: at.above(met),
                found: holder.sort(),
                wanted: "a group of keys",
            }),
        }
    }

    /// Makes a group or a list of what was nothing.
    fn fill(&mut self, at: &Pointer, depth: usize, value: &Value) -> Result<Before, EditDocumentError> {
        let tokens = &at.tokens()[..depth];
        let text = self.root.find(tokens).map_or_else(String::new, |node| self.text[node.outer()].into());
        self.edit(
            |syntax, text, root| {
                let old = root.find(tokens).ok_or("it is gone")?;
                let new = syntax.leaf(text, old, value)?;
                text.replace_range(old.outer(), &new);
                Ok(())
            },
            &Change::Replaced { at: tokens, value: Some(value) },
            || value.plain(),
        )?;
        Ok(Before::Instead { up: at.tokens().len() - depth, text })
    }

    /// Puts back what stood at a place before [`Document::set`].
    ///
    /// # Errors
    /// As for `set`.
    pub fn put_back(&mut self, at: &Pointer, before: &Before) -> Result<(), EditDocumentError> {
        let tokens = at.tokens();
        match before {
            Before::Text(old) => {
                let Some(span) = self.root.find(tokens).map(Node::outer) else {
                    return Ok(());
                };
                self.edit(
                    |_, text, _| {
                        text.replace_range(span, old);
                        Ok(())
                    },
                    &Change::Replaced { at: tokens, value: None },
                    || old.clone(),
                )
            }
            Before::Absent { made } => self.cut_up(at, *made),
            Before::Instead { up, text: old } => {
                if *up > 0 {
                    self.cut_up(at, up - 1)?;
                }
                let holder = &tokens[..tokens.len() - (*up).min(tokens.len())];
                let Some(node) = self.root.find(holder) else { return Ok(()) };
                let (range, empty, now) = (node.outer(), node.is_empty(), node.value().meaning());
                let mut text = self.text.clone();
                text.replace_range(range, old);
                // Where others have put something there since, it stays as it is.
                if let Ok(back) = Self::parse(self.format, &text)
                    && (empty || back.root.find(holder).is_some_and(|node| node.value().meaning() == now))
                {
                    *self = back;
                }
                Ok(())
            }
        }
    }

    /// Takes out what is at a place, and up to so many containers above it that are empty then.
    fn cut_up(&mut self, at: &Pointer, made: usize) -> Result<(), EditDocumentError> {
        self.cut(at.tokens())?;
        for up in 1..=made.min(at.tokens().len()) {
            let holder = &at.tokens()[..at.tokens().len() - up];
            if holder.is_empty() {
                break;
            }
            if !self.root.find(holder).is_some_and(Node::is_empty) {
                return self.close(holder);
            }
            self.cut(holder)?;
        }
        Ok(())
    }

    /// Takes the heading out that was made for what is gone.
    fn close(&mut self, tokens: &[String]) -> Result<(), EditDocumentError> {
        self.edit(
            |syntax, text, root| {
                if let Some(group) = root.find(tokens) {
                    syntax.close(text, group);
                }
                Ok(())
            },
            &Change::Nothing,
            || tokens.join("/"),
        )
    }

    fn cut(&mut self, tokens: &[String]) -> Result<(), EditDocumentError> {
        let Some((last, above)) = tokens.split_last() else { return Ok(()) };
        let (node, met) = self.root.nearest(tokens);
        if node.form == Form::Alias && met < tokens.len() {
            return Err(EditDocumentError::OtherSort {
                pointer: Pointer::of(&tokens[..met]),
                found: node.sort(),
                wanted: "a group of keys",
            });
        }
        let Some(holder) = self.root.find(above) else { return Ok(()) };
        let index = match &holder.body {
            Body::List(items) => last.parse::<usize>().ok().filter(|index| *index < items.len()),
            _ => holder.named(last).next_back().map(|(index, _)| index),
        };
        let Some(index) = index else { return Ok(()) };
        self.edit(
            |syntax, text, root| {
                if let Some(holder) = root.find(above) {
                    syntax.cut(text, holder, index);
                }
                Ok(())
            },
            &Change::Cut { above, child: index },
            || last.clone(),
        )
    }

    /// Takes a value out.
    ///
    /// # Errors
    /// Where the file could not be read afterwards; what is not there changes nothing.
    pub fn unset(&mut self, at: &Pointer) -> Result<(), EditDocumentError> {
        self.cut(at.tokens())
    }

    /// How the list at a place is written.
    fn list(&self, at: &Pointer) -> Result<Listing, EditDocumentError> {
        let tokens = at.tokens();
        let syntax = self.format.syntax();
        if tokens.len() > syntax.depth() {
            return Err(self.no_place(at));
        }
        let found = self.root.find(tokens);
        match found.map(|node| (&node.body, node.form)) {
            Some((Body::List(_), _)) => return Ok(Listing::Items),
            Some((Body::Group(children), form)) => {
                if children.is_empty() && form == Form::Open {
                    return Ok(Listing::Items);
                }
                if syntax.names() && children.iter().all(|child| child.form == Form::Bare) {
                    return Ok(Listing::Names);
                }
            }
            Some((Body::Leaf(_), Form::Open)) if !syntax.repeats() => return Ok(Listing::Nothing),
            _ => {}
        }
        let sections = || self.repeated(tokens).any(|(_, child)| child.form == Form::Section);
        let by_number = || found.is_some() && self.repeated(tokens).next().is_none();
        if syntax.repeats() && !tokens.is_empty() && !sections() && !by_number() {
            return Ok(Listing::Repeated);
        }
        match found {
            None if !tokens.is_empty() => Ok(Listing::Nothing),
            Some(node) if !tokens.is_empty() || matches!(node.body, Body::Leaf(_)) => {
                Err(EditDocumentError::OtherSort {
                    pointer: at.clone(),
                    found: node.sort(),
                    wanted: "a list",
                })
            }
            _ => Err(self.no_place(at)),
        }
    }

    /// Returns the items of the list at a place; none where there is no list.
    ///
    /// # Errors
    /// Where the place holds something that is no list.
    pub fn items(&self, at: &Pointer) -> Result<Vec<Value>, EditDocumentError> {
        let tokens = at.tokens();
        let node = || self.root.find(tokens).map_or(&[] as &[Node], Node::children);
        Ok(match self.list(at)? {
            Listing::Nothing => Vec::new(),
            Listing::Items => node().iter().map(Node::value).collect(),
            Listing::Names => node().iter().map(|child| Value::Text(child.key.clone())).collect(),
            Listing::Repeated => self.repeated(tokens).map(|(_, child)| child.value()).collect(),
        })
    }

    fn repeated<'d>(&'d self, tokens: &'d [String]) -> impl Iterator<Item = (usize, &'d Node)> {
        let (last, above) = tokens.split_last().map_or(("", tokens), |(last, above)| (last.as_str(), above));
        self.root.find(above).into_iter().flat_map(move |holder| holder.named(last))
    }

    /// Puts an item into the list at a place; a list that is not there is made.
    ///
    /// # Errors
    /// Where the place holds something that is no list, or the item cannot be written.
    pub fn insert(&mut self, at: &Pointer, index: usize, item: &Value) -> Result<Before, EditDocumentError> {
        self.insert_all(at, &[(index, item.clone())])
            .map(|mut before| before.pop().unwrap_or(Before::Absent { made: 0 }))
    }

    /// Puts items into the list at a place one after another; each index is the one at that time.
    ///
    /// # Errors
    /// As for [`Document::insert`].
    pub fn insert_all(
        &mut self,
        at: &Pointer,
        items: &[(usize, Value)],
    ) -> Result<Vec<Before>, EditDocumentError> {
        let Some(((_, first), rest)) = items.split_first() else { return Ok(Vec::new()) };
        let tokens = at.tokens();
        let made = match self.list(at)? {
            Listing::Nothing => {
                let alone = Value::Compound(serde_json::Value::Array(vec![first.to_json()]));
                match self.root.find(tokens) {
                    Some(_) => self.fill(at, tokens.len(), &alone)?,
                    None => match self.set(at, &alone)? {
                        Before::Absent { made } => Before::Absent { made: made + 1 },
                        before => before,
                    },
                }
            }
            Listing::Repeated if self.repeated(tokens).next().is_none() => match self.set(at, first)? {
                Before::Absent { made } => Before::Absent { made: made + 1 },
                before => before,
            },
            _ if self.items(at)?.is_empty() => {
                self.insert_into(at, &[(0, first.clone())])?;
                Before::Absent { made: 0 }
            }
            _ => {
                self.insert_into(at, items)?;
                return Ok(items.iter().map(|_| Before::Absent { made: 0 }).collect());
            }
        };
        self.insert_into(at, rest)?;
        let rest = rest.iter().map(|_| Before::Absent { made: 0 });
        Ok(std::iter::once(made).chain(rest).collect())
    }

    /// Puts items into a list that has some, from the back to the front, reading the text once.
    fn insert_into(&mut self, at: &Pointer, items: &[(usize, Value)]) -> Result<(), EditDocumentError> {
        if items.is_empty() {
            return Ok(());
        }
        let tokens = at.tokens();
        let listing = self.list(at)?;
        let (last, above) = tokens.split_last().map_or(("", tokens), |(last, above)| (last.as_str(), above));
        // Where the children are that the items stand between.
        let places: Vec<usize> = match listing {
            Listing::Repeated => self.repeated(tokens).map(|(index, _)| index).collect(),
            _ => (0..self.root.find(tokens).map_or(0, |node| node.children().len())).collect(),
        };
        let mut order: Vec<Option<usize>> = (0..places.len()).map(Some).collect();
        let mut new: Vec<Option<&Value>> = vec![None; places.len()];
        for (index, item) in items {
            let index = (*index).min(order.len());
            order.insert(index, None);
            new.insert(index, Some(item));
        }
        let end = places.last().map_or(0, |last| last + 1);
        self.edit(
            |syntax, text, root| {
                let holder = root
                    .find(if listing == Listing::Repeated { above } else { tokens })
                    .ok_or("it is gone")?;
                let mut gap = end;
                for (old, item) in order.iter().zip(&new).rev() {
                    match (old, item) {
                        (Some(old), _) => gap = places[*old],
                        (None, Some(item)) => match listing {
                            Listing::Names => syntax.add(
                                text,
                                holder,
                                gap,
                                &item.scalar()?,
                                &Value::Compound(serde_json::Value::Null),
                            )?,
                            Listing::Repeated => syntax.add(text, holder, gap, last, item)?,
                            _ => syntax.add(text, holder, gap, "", item)?,
                        },
                        (None, None) => {}
                    }
                }
                Ok(())
            },
            &Change::Inserted { items: items.iter().map(|(_, item)| item).collect() },
            || items.iter().map(|(_, item)| item.plain()).collect::<Vec<_>>().join(", "),
        )
    }

    /// Takes the item at `index` out of the list at a place.
    ///
    /// # Errors
    /// Where the place holds no list; an index that is not there changes nothing.
    pub fn remove(&mut self, at: &Pointer, index: usize) -> Result<(), EditDocumentError> {
        let tokens = at.tokens();
        let listing = self.list(at)?;
        let (above, child) = match listing {
            Listing::Nothing => return Ok(()),
            Listing::Repeated => match self.repeated(tokens).nth(index) {
                Some((child, _)) => (&tokens[..tokens.len() - 1], child),
                None => return Ok(()),
            },
            _ => match self.root.find(tokens).filter(|node| index < node.children().len()) {
                Some(_) => (tokens, index),
                None => return Ok(()),
            },
        };
        self.edit(
            |syntax, text, root| {
                if let Some(holder) = root.find(above) {
                    syntax.cut(text, holder, child);
                }
                Ok(())
            },
            &Change::Cut { above, child },
            || at.to_string(),
        )
    }
}

/// How a list is written.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Listing {
    /// It is not there, or is nothing yet.
    Nothing,
    /// As the format's own list.
    Items,
    /// As names that stand alone.
    Names,
    /// As one name again and again.
    Repeated,
}
