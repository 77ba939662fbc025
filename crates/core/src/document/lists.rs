//! Which items go where in a list that others write as well.

use std::collections::{BTreeMap, BTreeSet};

/// One step that brings a list into the wanted state. Indexes are those at the time of the step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Placing {
    /// Take the item at this index out.
    Remove(usize),
    /// Put the item in so that it stands at this index.
    Insert(usize, String),
}

/// Returns the steps after which `wanted` stand in `list` once each, in their order when `ordered`, with as little
/// movement as can be. Items of others keep their places; `unwanted` are taken out.
pub fn arrange(
    list: &[String],
    wanted: &[String],
    unwanted: &BTreeSet<String>,
    ordered: bool,
) -> Vec<Placing> {
    let rank: BTreeMap<&str, usize> = wanted.iter().enumerate().map(|(i, item)| (item.as_str(), i)).collect();
    let mut steps = Vec::new();
    let mut now: Vec<String> = list.to_vec();
    let mut seen = BTreeSet::new();
    let mut index = 0;
    while index < now.len() {
        let item = &now[index];
        let ours = rank.contains_key(item.as_str());
        let goes = if ours { !seen.insert(item.clone()) } else { unwanted.contains(item) };
        if goes {
            steps.push(Placing::Remove(index));
            now.remove(index);
        } else {
            index += 1;
        }
    }
    if ordered {
        let stay = longest_rising(
            &now.iter().filter_map(|item| rank.get(item.as_str()).copied()).collect::<Vec<_>>(),
        );
        let mut index = 0;
        while index < now.len() {
            if rank.get(now[index].as_str()).is_some_and(|rank| !stay.contains(rank)) {
                steps.push(Placing::Remove(index));
                now.remove(index);
            } else {
                index += 1;
            }
        }
    }
    for (at, item) in wanted.iter().enumerate() {
        if now.contains(item) {
            continue;
        }
        let position = |of: &String| now.iter().position(|there| there == of);
        let behind = wanted[..at].iter().rev().find_map(position).map(|index| index + 1);
        let ahead = if ordered { wanted[at + 1..].iter().find_map(position) } else { None };
        let index = match (ordered, behind, ahead) {
            (true, Some(index), _) | (true, None, Some(index)) => index,
            _ => now.len(),
        };
        now.insert(index, item.clone());
        steps.push(Placing::Insert(index, item.clone()));
    }
    steps
}

/// Returns a longest rising subsequence's values.
fn longest_rising(ranks: &[usize]) -> BTreeSet<usize> {
    let mut ends: Vec<usize> = Vec::new();
    let mut back: Vec<Option<usize>> = vec![None; ranks.len()];
    for (i, rank) in ranks.iter().enumerate() {
        let at = ends.partition_point(|end| ranks[*end] < *rank);
        back[i] = at.checked_sub(1).map(|before| ends[before]);
        if at == ends.len() { ends.push(i) } else { ends[at] = i }
    }
    let mut stay = BTreeSet::new();
    let mut next = ends.last().copied();
    while let Some(i) = next {
        stay.insert(ranks[i]);
        next = back[i];
    }
    stay
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn run(list: &[&str], wanted: &[&str], unwanted: &[&str]) -> (Vec<String>, usize) {
        let own = |texts: &[&str]| texts.iter().map(ToString::to_string).collect::<Vec<_>>();
        let steps = arrange(&own(list), &own(wanted), &own(unwanted).into_iter().collect(), true);
        let count = steps.len();
        (apply(own(list), steps), count)
    }

    fn apply(mut list: Vec<String>, steps: Vec<Placing>) -> Vec<String> {
        for step in steps {
            match step {
                Placing::Remove(index) => {
                    list.remove(index);
                }
                Placing::Insert(index, item) => list.insert(index, item),
            }
        }
        list
    }

    #[test]
    fn few_steps() {
        assert_eq!(
            run(&["x", "b", "z"], &["a", "b", "c"], &[]),
            (["x", "a", "b", "c", "z"].map(String::from).to_vec(), 2)
        );
        assert_eq!(run(&["c", "a", "b"], &["a", "b", "c"], &[]).1, 2);
        assert_eq!(run(&["a", "a", "old"], &["a"], &["old"]), (vec!["a".to_string()], 2));
        assert_eq!(run(&["a", "x", "b"], &["a", "b"], &[]).1, 0);
    }

    proptest! {
        #[test]
        fn ours_stand_once_in_order_and_others_do_not_move(
            list in proptest::collection::vec("[a-h]", 0..9),
            wanted in proptest::sample::subsequence(vec!["f", "a", "c", "b", "e"], 0..=5),
        ) {
            let wanted: Vec<String> = wanted.into_iter().map(String::from).collect();
            let after = apply(list.clone(), arrange(&list, &wanted, &BTreeSet::new(), true));
            let ours: Vec<_> = after.iter().filter(|item| wanted.contains(item)).cloned().collect();
            prop_assert_eq!(&ours, &wanted);
            let others = |list: &[String]| list.iter().filter(|item| !wanted.contains(item)).cloned().collect::<Vec<_>>();
            prop_assert_eq!(others(&after), others(&list));
            prop_assert!(arrange(&after, &wanted, &BTreeSet::new(), true).is_empty());
        }
    }
}
