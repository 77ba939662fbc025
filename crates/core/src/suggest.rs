//! "Did you mean": the nearest of the names that exist.

/// Returns the names nearest to `wanted` (at most `most`), nearest first; none that is further than a third of its
/// length or so.
pub fn nearest<'a>(wanted: &str, names: impl IntoIterator<Item = &'a str>, most: usize) -> Vec<&'a str> {
    let wanted_low = wanted.to_lowercase();
    let mut scored: Vec<(f64, &str)> = names
        .into_iter()
        .filter_map(|name| {
            let low = name.to_lowercase();
            let (wanted, low) = without_common_ends(&wanted_low, &low);
            let similar = strsim::normalized_damerau_levenshtein(wanted, low);
            let within = wanted.len() >= 4 && (low.contains(wanted) || wanted.contains(low));
            let score = if within { similar.max(0.7) } else { similar };
            (score >= 0.6).then_some((score, name))
        })
        .collect();
    scored.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(b.1)));
    scored.into_iter().take(most).map(|(_, name)| name).collect()
}

/// Leaves out a folder and a suffix that two paths have in common: they do not make their names alike.
fn without_common_ends<'t>(one: &'t str, other: &'t str) -> (&'t str, &'t str) {
    let folder = |path: &str| path.rfind('/').map_or(0, |at| at + 1);
    let start = if one[..folder(one)] == other[..folder(other)] { folder(one) } else { 0 };
    let (one, other) = (&one[start..], &other[start..]);
    match (one.rsplit_once('.'), other.rsplit_once('.')) {
        (Some((one, suffix)), Some((other, same)))
            if suffix == same && !one.is_empty() && !other.is_empty() =>
        {
            (one, other)
        }
        _ => (one, other),
    }
}

/// Returns `did you mean a or b?`, or nothing where no name is near.
pub fn did_you_mean<'a>(wanted: &str, names: impl IntoIterator<Item = &'a str>) -> Option<String> {
    let near = nearest(wanted, names, 3);
    (!near.is_empty()).then(|| format!("did you mean {}?", near.join(" or ")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_slip_finds_its_name_and_nonsense_finds_none() {
        let names = ["tidebell", "harbour-core", "gull-chat"];
        assert_eq!(nearest("tidebel", names, 3), ["tidebell"]);
        assert_eq!(nearest("habour-core", names, 3), ["harbour-core"]);
        assert_eq!(nearest("harbour", names, 3), ["harbour-core"]);
        assert!(nearest("zzz", names, 3).is_empty());
        let files = ["plugins/stray.so", "plugins/missings.so", "maps/missing.so"];
        assert_eq!(nearest("plugins/Missing.so", files, 3), ["plugins/missings.so", "maps/missing.so"]);
        assert!(nearest("plugins/Missing.so", ["plugins/stray.so"], 3).is_empty());
        assert_eq!(did_you_mean("gullchat", names).as_deref(), Some("did you mean gull-chat?"));
    }
}
