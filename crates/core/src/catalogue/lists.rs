//! Lists read into no more memory than they need: there are very many of them, and most hold one thing or two.

use std::fmt;

use serde::{
    Deserialize, Deserializer,
    de::{MapAccess, SeqAccess, Visitor},
};

use super::Relations;

/// So many are taken up at once before a list of many finds its place.
const MANY: usize = 32;

/// Puts one more behind a list that grows in small steps at first.
fn push<T>(list: &mut Vec<T>, one: T) {
    if list.len() == list.capacity() {
        list.reserve_exact(list.len().max(1));
    }
    list.push(one);
}

/// What is read goes behind what it was begun with.
struct List<T>(Vec<T>);

impl<'de, T: Deserialize<'de>> Visitor<'de> for List<T> {
    type Value = Vec<T>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a list")
    }

    fn visit_seq<S: SeqAccess<'de>>(self, mut list: S) -> Result<Vec<T>, S::Error> {
        let mut read = self.0;
        while let Some(one) = list.next_element()? {
            push(&mut read, one);
        }
        Ok(read)
    }
}

/// Reads a list that is mostly short.
pub(super) fn few<'de, D: Deserializer<'de>, T: Deserialize<'de>>(reader: D) -> Result<Vec<T>, D::Error> {
    reader.deserialize_seq(List(Vec::new()))
}

/// Reads a list of large things, of which there are mostly several. They are gathered where there is room, and then moved to
/// where there is just enough: the room is the same for the next list.
pub(super) fn many<'de, D: Deserializer<'de>, T: Deserialize<'de>>(reader: D) -> Result<Vec<T>, D::Error> {
    let mut read = reader.deserialize_seq(List(Vec::with_capacity(MANY)))?;
    let mut exact = Vec::with_capacity(read.len());
    exact.append(&mut read);
    Ok(exact)
}

/// Reads relations; of a content that is named twice, the last range counts.
pub(super) fn relations<'de, D: Deserializer<'de>>(reader: D) -> Result<Relations, D::Error> {
    struct Pairs;
    impl<'de> Visitor<'de> for Pairs {
        type Value = Relations;

        fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
            f.write_str("ranges by content")
        }

        fn visit_map<M: MapAccess<'de>>(self, mut map: M) -> Result<Relations, M::Error> {
            let mut pairs = Vec::new();
            while let Some(pair) = map.next_entry()? {
                push(&mut pairs, pair);
            }
            if pairs.is_sorted_by(|(a, _), (b, _)| a < b) {
                return Ok(Relations::from_sorted_store_unchecked(pairs));
            }
            Ok(pairs.into_iter().collect())
        }
    }
    reader.deserialize_map(Pairs)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> Relations {
        relations(&mut serde_json::Deserializer::from_str(text)).unwrap()
    }

    #[test]
    fn relations_are_the_same_in_any_order() {
        let pairs = |relations: &Relations| {
            relations.iter().map(|(id, range)| format!("{id} {range}")).collect::<Vec<_>>()
        };
        assert_eq!(read(r#"{"a": "1", "b": ">=2", "c": "*"}"#), read(r#"{"c": "*", "a": "1", "b": ">=2"}"#));
        assert_eq!(pairs(&read(r#"{"b": "1", "a": "*", "b": "2"}"#)), ["a *", "b 2"]);
        assert!(relations(&mut serde_json::Deserializer::from_str("[]")).is_err());
    }

    #[test]
    fn a_list_takes_no_more_than_it_needs() {
        let few_of = |text: &str| few::<_, u64>(&mut serde_json::Deserializer::from_str(text)).unwrap();
        let many_of = |text: &str| many::<_, u64>(&mut serde_json::Deserializer::from_str(text)).unwrap();
        assert_eq!((few_of("[7]").capacity(), few_of("[7, 8]").capacity()), (1, 2));
        let text = serde_json::to_string(&(0..100).collect::<Vec<u64>>()).unwrap();
        assert_eq!(many_of(&text), few_of(&text));
        assert_eq!(many_of(&text).capacity(), 100);
        assert!(few::<_, u64>(&mut serde_json::Deserializer::from_str("{}")).is_err());
    }
}
