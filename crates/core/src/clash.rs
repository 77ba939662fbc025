//! One asset's name from several contents: whose counts, and what that means.

use std::collections::{BTreeMap, BTreeSet};

use crate::{
    game::Wins,
    id::{ContentId, Digest, TreePath},
};

/// A file whose name all contents share.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Asset {
    /// Its name in the game.
    pub name: String,
    /// Where it lies.
    pub path: TreePath,
    /// The content that it belongs to; `None` for an unmanaged file.
    pub content: Option<ContentId>,
    /// The digest of its bytes.
    pub digest: Digest,
}

/// What is known besides.
#[derive(Debug, Clone, Copy)]
pub struct ClashContext<'a> {
    /// The contents that are on, in the order in which they are loaded.
    pub order: &'a [ContentId],
    /// Whose counts.
    pub wins: Wins,
    /// Names that authors say must come from theirs only.
    pub owns: &'a BTreeMap<ContentId, BTreeSet<String>>,
}

/// One name that several have.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Clash {
    /// The name.
    pub name: String,
    /// All that have it, the one that counts last.
    pub copies: Vec<Asset>,
    /// Whether all copies are byte for byte the same, so that the choice does not matter.
    pub is_same: bool,
    /// The content whose copy the game uses, by the load order; `None` if only unmanaged files have the name.
    pub winner: Option<ContentId>,
    /// The author who says that it must come from theirs.
    pub owner: Option<ContentId>,
}

impl Clash {
    /// Whether what players see is what an author asks for.
    pub fn is_as_owned(&self) -> bool {
        self.owner.is_none() || self.owner == self.winner
    }
}

/// Returns the names that several have, the worst first: other bytes than the author's whose they should be, then other bytes, then the same.
pub fn clashes(assets: &[Asset], context: ClashContext<'_>) -> Vec<Clash> {
    let rank = |asset: &Asset| {
        let at = asset.content.as_ref().and_then(|id| context.order.iter().position(|other| other == id));
        // Copies that are not loaded never win, and unmanaged ones come before all others.
        match (at, context.wins) {
            (None, _) => (0, 0),
            (Some(at), Wins::Last) => (1, at),
            (Some(at), Wins::First) => (1, context.order.len() - at),
        }
    };
    let is_on = |asset: &&Asset| asset.content.as_ref().is_none_or(|id| context.order.contains(id));
    let mut by_name: BTreeMap<&str, Vec<&Asset>> = BTreeMap::new();
    for asset in assets.iter().filter(is_on) {
        by_name.entry(&asset.name).or_default().push(asset);
    }
    let mut found = Vec::new();
    for (name, copies) in by_name {
        let contents: BTreeSet<&Option<ContentId>> = copies.iter().map(|asset| &asset.content).collect();
        if contents.len() < 2 {
            continue;
        }
        let mut copies: Vec<Asset> = copies.into_iter().cloned().collect();
        copies.sort_by(|a, b| rank(a).cmp(&rank(b)).then_with(|| a.path.cmp(&b.path)));
        let owners = context.owns.iter().filter(|(_, names)| names.contains(name)).map(|(id, _)| id);
        let owner =
            owners.into_iter().find(|id| copies.iter().any(|copy| copy.content.as_ref() == Some(*id)));
        found.push(Clash {
            name: name.to_owned(),
            is_same: copies.windows(2).all(|two| two[0].digest == two[1].digest),
            winner: copies.last().and_then(|copy| copy.content.clone()),
            owner: owner.cloned(),
            copies,
        });
    }
    found.sort_by_key(|clash| (clash.is_same, clash.is_as_owned(), clash.name.clone()));
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    fn id(text: &str) -> ContentId {
        ContentId::new(text).unwrap()
    }

    fn asset(content: &str, name: &str, bytes: &str) -> Asset {
        let path = TreePath::new(&format!("items/{content}/{name}")).unwrap();
        let content = (!content.is_empty()).then(|| id(content));
        Asset { name: name.into(), path, content, digest: Digest::of(bytes.as_bytes()) }
    }

    #[test]
    fn the_worst_come_first_and_the_load_order_decides() {
        let assets = [
            asset("fen", "pier", "a"),
            asset("heron", "pier", "b"),
            asset("fen", "reed", "r"),
            asset("heron", "reed", "r"),
            asset("heron", "punt", "h"),
            asset("fen", "punt", "f"),
            asset("off", "pier", "z"),
            asset("fen", "alone", "x"),
            asset("off", "alone", "y"),
        ];
        let owns = BTreeMap::from([(id("heron"), BTreeSet::from(["punt".to_owned()]))]);
        let order = [id("heron"), id("fen")];
        let told = |wins| {
            let context = ClashContext { order: &order, wins, owns: &owns };
            let found = clashes(&assets, context).into_iter();
            found
                .map(|clash| (clash.name.clone(), clash.winner.clone().unwrap().to_string(), clash.is_same))
                .collect::<Vec<_>>()
        };
        let expected = |name: &str, winner: &str, same| (name.to_owned(), winner.to_owned(), same);
        assert_eq!(
            told(Wins::Last),
            [expected("punt", "fen", false), expected("pier", "fen", false), expected("reed", "fen", true)]
        );
        assert_eq!(
            told(Wins::First),
            [
                expected("pier", "heron", false),
                expected("punt", "heron", false),
                expected("reed", "heron", true)
            ]
        );
    }
}
