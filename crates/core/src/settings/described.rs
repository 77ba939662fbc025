//! Rules from lines in which a content describes its settings, one a line, as a definition reads them.

use super::SettingRule;
use crate::{
    document::{Pointer, Value},
    game::SchemaLine,
};

/// Reads what lines say of settings; the first pattern that fits a line reads it, and what fits none says nothing.
pub fn rules_of_lines(text: &str, lines: &[SchemaLine]) -> Vec<(Pointer, SettingRule)> {
    let mut rules: Vec<(Pointer, SettingRule)> = Vec::new();
    for line in text.lines() {
        let found = lines.iter().find_map(|one| Some((one, one.pattern.captures(line)?)));
        let Some((one, groups)) = found else { continue };
        let text = |name: &str| groups.name(name).map(|group| group.as_str().trim()).unwrap_or_default();
        let at = Pointer::root().join(text("key"));
        if text("key").is_empty() || rules.iter().any(|(known, _)| *known == at) {
            continue;
        }
        let number = |name: &str| text(name).parse::<f64>().ok().filter(|number| number.is_finite());
        let words = text("choices").split(',').map(str::trim).filter(|word| !word.is_empty());
        let mut rule = SettingRule {
            least: number("least"),
            most: number("most"),
            choices: words.map(str::to_owned).collect(),
            help: text("help").to_owned(),
            ..SettingRule::of(one.sort)
        };
        // A default that is none of its own sort is left out: it is only told.
        rule.default = groups.name("default").and_then(|_| rule.check(&Value::from(text("default"))).ok());
        rules.push((at, rule));
    }
    rules
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{game, settings::SettingType};

    #[test]
    fn a_mod_describes_its_settings_in_lines() {
        let (_, text) = game::BUILT_IN.iter().find(|(name, _)| *name == "luanti").unwrap();
        let game = game::load("luanti", text).unwrap();
        let lines = &game.kinds["mod"].settings[0].schema_lines;
        let rules = rules_of_lines(
            "[Section]\n# a comment\n\
             gulls_loud (Gulls are loud) bool true\n\
             gulls.most (How many gulls) int 12 0 99\n\
             gulls_speed (Speed) float 1.5\n\
             gulls_mood (Mood) enum calm calm,angry\n\
             gulls_name (What they are called) string the gulls\n\
             gulls_odd (Odd) int twelve\n\
             gulls_loud (Again) bool false\n",
            lines,
        );
        let told: Vec<String> = rules
            .iter()
            .map(|(at, rule)| {
                let default = rule.default.as_ref().map_or_else(String::new, Value::plain);
                format!(
                    "{at} {:?} {default} {:?} {:?} {}",
                    rule.sort,
                    rule.least,
                    rule.most,
                    rule.choices.join(",")
                )
            })
            .collect();
        assert_eq!(
            told,
            [
                "/gulls_loud Switch true None None ",
                "/gulls.most Whole 12 Some(0.0) Some(99.0) ",
                "/gulls_speed Number 1.5 None None ",
                "/gulls_mood Choice calm None None calm,angry",
                "/gulls_name Text the gulls None None ",
                "/gulls_odd Whole  None None ",
            ]
        );
        assert_eq!(rules[0].1.help, "Gulls are loud");
        assert_eq!(rules[0].1.sort, SettingType::Switch);
    }
}
