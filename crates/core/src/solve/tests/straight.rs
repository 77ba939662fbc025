//! The straight way beside the search: where it arrives, both say the same.

use std::cell::Cell;

use proptest::test_runner::TestRunner;

use super::*;
use crate::solve::{
    problem::Problem,
    straight::{Walked, walk},
};

/// Catalogues large enough that most of what is chosen follows from something else.
fn catalogue() -> impl Strategy<Value = (Vec<String>, Vec<String>, Vec<String>)> {
    let ranges = vec!["*", ">=2", "<3", "2", ">=2 <4", "1 || 3"];
    let name = proptest::sample::select(vec!["a", "b", "c", "d", "e", "f", "g", "h", "i", "j"]);
    let range = proptest::sample::select(ranges);
    let object = (name.clone(), range).prop_map(|(name, range)| format!("{name} {range}"));
    let clause = prop_oneof![
        8 => object.clone().prop_map(|object| format!("needs {object}")),
        2 => object.clone().prop_map(|object| format!("welcomes {object}")),
        2 => object.clone().prop_map(|object| format!("refuses {object}")),
        1 => Just("engine >=3".to_string()),
        1 => Just("withdrawn".to_string()),
    ];
    // What an author needs changes seldom: many releases say what another one says.
    let content =
        (name.clone(), proptest::collection::vec(clause, 0..5), proptest::collection::vec(0..32_u8, 1..5));
    let lines = content.prop_map(|(name, clauses, releases)| {
        let line = |(version, which): (usize, &u8)| {
            let said = clauses.iter().enumerate().filter(|(at, _)| which >> at & 1 == 1);
            let said: Vec<&str> = said.map(|(_, clause)| clause.as_str()).collect();
            format!("{name} {} | {}", version + 1, said.join("; "))
        };
        releases.iter().enumerate().map(line).collect::<Vec<_>>()
    });
    (
        proptest::collection::vec(lines, 4..14).prop_map(|contents| contents.concat()),
        proptest::collection::vec(name.clone().prop_map(|name| format!("{name} *")), 1..4),
        proptest::collection::vec((name, 1..4).prop_map(|(name, v)| format!("{name} {v}")), 0..3),
    )
}

#[test]
fn the_straight_way_leads_where_the_search_does() {
    let cases = 20_000;
    let mut runner = TestRunner::new(ProptestConfig::with_cases(cases));
    let (arrived, taken_back, certain) = (Cell::new(0), Cell::new(0), Cell::new(0));
    let outcome = runner.run(&catalogue(), |(lines, wants, locked)| {
        let case = Case::new(&lines, &wants, &locked);
        let (universe, wants, locked, platform) = (&case.universe, &case.wants, &case.locked, &case.platform);
        let question = Question { universe, platform, wants, locked };
        let Some(Walked { arrival: Arrival::Found(straight), wants: by_number, taken_back: back }) =
            walk(&question)
        else {
            return Ok(());
        };
        let is_certain = quick::certainly_holds(&question, &by_number, &straight);
        let straight = universe.select(straight.into_iter());
        certain.set(certain.get() + u32::from(is_certain));
        prop_assert!(!is_certain || breaches(&question, &straight).is_empty(), "{:?}", straight);
        arrived.set(arrived.get() + 1);
        if back == 0 {
            let Resolution::Lineup(searched) = search(&question) else { panic!("there is one") };
            prop_assert_eq!(&straight, &searched);
        } else {
            taken_back.set(taken_back.get() + 1);
            prop_assert!(good(universe, wants, locked, &straight), "{:?}", straight);
        }
        let again = solve(&Question { locked: &straight, ..question });
        prop_assert!(matches!(&again, Resolution::Lineup(again) if *again == straight), "{:?}", again);
        Ok(())
    });
    outcome.unwrap();
    assert!(arrived.get() > cases / 4, "it arrived {} times of {cases}", arrived.get());
    let (certain, arrived) = (certain.get(), arrived.get());
    assert!(certain > arrived * 9 / 10, "the quick check was certain of {certain} of {arrived}");
    assert!(taken_back.get() > cases / 100, "of which something was taken back {} times", taken_back.get());
}

#[test]
fn the_quick_check_is_never_certain_of_a_broken_lineup() {
    let cases = 8_000;
    let mut runner = TestRunner::new(ProptestConfig::with_cases(cases));
    let (certain, broken) = (Cell::new(0), Cell::new(0));
    let picks = proptest::collection::vec(0..6_usize, 10);
    let outcome = runner.run(&(catalogue(), picks), |((lines, wants, locked), picks)| {
        let case = Case::new(&lines, &wants, &locked);
        let (universe, wants, locked, platform) = (&case.universe, &case.wants, &case.locked, &case.platform);
        let question = Question { universe, platform, wants, locked };
        // Any releases at all, and what the straight way found with one release exchanged or left out.
        let numbers = universe
            .iter()
            .filter_map(|content| Some((universe.number(&content.id)?, content.releases.len())));
        let random: Vec<_> = numbers
            .zip(&picks)
            .filter(|((_, count), pick)| *pick < count)
            .map(|((number, _), pick)| (number, *pick))
            .collect();
        let mut lineups = vec![random];
        if let Some(Walked { arrival: Arrival::Found(straight), .. }) = walk(&question) {
            let at = picks[0] % straight.len().max(1);
            let mut without = straight.clone();
            without.truncate(at);
            without.extend(straight.iter().skip(at + 1));
            lineups.push(without);
            let mut other = straight;
            if let Some((number, release)) = other.get_mut(at) {
                let count = universe.content(*number).map_or(1, |content| content.releases.len());
                *release = picks[1] % count;
            }
            lineups.push(other);
        }
        for lineup in lineups {
            let is_certain =
                quick::certainly_holds(&question, &Problem::<'_>::new(&question, 0).wants(), &lineup);
            let is_broken = !breaches(&question, &universe.select(lineup.into_iter())).is_empty();
            certain.set(certain.get() + u32::from(is_certain));
            broken.set(broken.get() + u32::from(is_broken));
            prop_assert!(!(is_certain && is_broken));
        }
        Ok(())
    });
    outcome.unwrap();
    assert!(certain.get() > 1_000 && broken.get() > 1_000, "{} and {}", certain.get(), broken.get());
}
