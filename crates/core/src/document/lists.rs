//! Which items go where in a list that others write as well.

use std::collections::{BTreeSet, HashMap};

/// One step that brings a list into the wanted state. Indexes are those at the time of the step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Placing {
    /// Take the item at this index out.
    Remove(usize),
    /// Put the item in so that it stands at this index.
    Insert(usize, String),
}

/// Returns the steps after which `wanted` stand in `list`, in their order when `ordered`, with as little movement as can be. Items
/// of others keep their places, and so does what somebody wrote a second time; all of what is `unwanted` is taken out.
pub fn arrange(
    list: &[String],
    wanted: &[String],
    unwanted: &BTreeSet<String>,
    ordered: bool,
) -> Vec<Placing> {
    let rank: HashMap<&str, usize> = wanted.iter().enumerate().map(|(i, item)| (item.as_str(), i)).collect();
    let mut steps = Vec::new();
    // What stays, with its rank where it is ours and stands there for the first time.
    let mut now: Vec<(Option<usize>, &str)> = Vec::with_capacity(list.len());
    let mut seen = vec![false; wanted.len()];
    for item in list {
        let ours = rank.get(item.as_str()).copied();
        let ours = ours.filter(|rank| !std::mem::replace(&mut seen[*rank], true));
        if ours.is_none() && unwanted.contains(item) {
            steps.push(Placing::Remove(now.len()));
        } else {
            now.push((ours, item));
        }
    }
    if ordered {
        let stay = longest_rising(&now.iter().filter_map(|(ours, _)| *ours).collect::<Vec<_>>());
        let mut kept = Vec::with_capacity(now.len());
        for (ours, item) in now {
            // What moves stands there once afterwards.
            match rank.get(item) {
                Some(rank) if !stay.contains(rank) => {
                    steps.push(Placing::Remove(kept.len()));
                    seen[*rank] = false;
                }
                _ => kept.push((ours, item)),
            }
        }
        now = kept;
    }
    let mut place = vec![0; wanted.len()];
    for (index, (rank, _)) in now.iter().enumerate() {
        if let Some(rank) = rank {
            place[*rank] = index;
        }
    }
    let first_there = (0..wanted.len()).find(|rank| seen[*rank]);
    // Ours rise, so what was put in so far stands before all of ours that are still to come.
    let (mut inserted, mut behind) = (0, None);
    for (rank, item) in wanted.iter().enumerate() {
        if seen[rank] {
            behind = Some(place[rank] + inserted + 1);
            continue;
        }
        let ahead = first_there.filter(|first| *first > rank).map(|first| place[first] + inserted);
        let end = now.len() + inserted;
        let index = if ordered { behind.or(ahead).unwrap_or(end) } else { end };
        behind = Some(index + 1);
        inserted += 1;
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
        assert_eq!(run(&["a", "a", "old", "old"], &["a"], &["old"]), (vec!["a".to_string(); 2], 2));
        assert_eq!(run(&["b", "a", "a", "b"], &["a", "b"], &[]).0, ["a", "b", "a"]);
        assert_eq!(run(&["a", "x", "b"], &["a", "b"], &[]).1, 0);
    }

    proptest! {
        #[test]
        fn ours_stand_in_order_and_others_do_not_move(
            list in proptest::collection::vec("[a-h]", 0..9),
            wanted in proptest::sample::subsequence(vec!["f", "a", "c", "b", "e"], 0..=5),
        ) {
            let wanted: Vec<String> = wanted.into_iter().map(String::from).collect();
            let after = apply(list.clone(), arrange(&list, &wanted, &BTreeSet::new(), true));
            // In their order, among what stands there twice.
            let mut left = wanted.iter().peekable();
            for item in &after {
                left.next_if(|next| *next == item);
            }
            prop_assert!(left.next().is_none(), "{:?} is not in {:?}", wanted, after);
            let count = |list: &[String], item: &String| list.iter().filter(|other| *other == item).count();
            for item in &wanted {
                prop_assert!([1, count(&list, item)].contains(&count(&after, item)));
            }
            let others = |list: &[String]| list.iter().filter(|item| !wanted.contains(item)).cloned().collect::<Vec<_>>();
            prop_assert_eq!(others(&after), others(&list));
            prop_assert!(arrange(&after, &wanted, &BTreeSet::new(), true).is_empty());
        }
    }
}
