//! What happens in the demo, act by act.

/// One step of a story.
pub(super) struct Act {
    /// What it is about.
    pub(super) about: &'static str,
    /// What is done.
    pub(super) does: Does,
}

#[derive(Clone, Copy)]
pub(super) enum Does {
    /// A command of ours.
    Run(&'static [&'static str]),
    /// A command of ours, while somebody starts the server elsewhere.
    Watch(&'static [&'static str]),
    /// Somebody edits a file by hand.
    Hand { file: &'static str, from: &'static str, to: &'static str },
}

impl Does {
    /// Whether it takes something back.
    pub(super) fn is_undo(self) -> bool {
        matches!(self, Self::Run(["undo", ..]))
    }
}

/// The harbour's story.
pub(super) const HARBOUR: &[Act] = &[
    Act {
        about: "Somebody left the Larkspur Harbour Festival's server behind. Take charge of it: nothing is changed, and what \
         lies where the server does not look is named.",
        does: Does::Run(&["adopt", "--name", "Larkspur Harbour"]),
    },
    Act { about: "What is wrong with it?", does: Does::Run(&["check"]) },
    Act {
        about: "Put it right: what is missing is brought, what lies wrong is moved, all or nothing.",
        does: Does::Run(&["fix", "--yes"]),
    },
    Act { about: "What is there about bells?", does: Does::Run(&["find", "bell"]) },
    Act {
        about: "Tidebell, then. Note it, see what would happen, and do it.",
        does: Does::Run(&["add", "tidebell", "--later"]),
    },
    Act { about: "", does: Does::Run(&["preview"]) },
    Act { about: "", does: Does::Run(&["settle", "--yes", "--quiet"]) },
    Act { about: "Does the server start with it?", does: Does::Run(&["trial"]) },
    Act {
        about: "Two contents that do not go together: the reason, and the ways out.",
        does: Does::Run(&["add", "quiet-bells", "tidebell@>=1.3", "--yes"]),
    },
    Act {
        about: "Is there anything newer? Where something cannot be updated, the reason is given.",
        does: Does::Run(&["update", "--yes"]),
    },
    Act {
        about: "The festival's race is postponed before it is announced: in with it, and out again.",
        does: Does::Run(&["add", "regatta", "--yes"]),
    },
    Act { about: "", does: Does::Run(&["undo", "--yes"]) },
    Act {
        about: "The bells are too loud. What only they needed goes with them.",
        does: Does::Run(&["drop", "tidebell", "--yes"]),
    },
    Act {
        about: "Fishing for the festival: twice the catch of everything, in one go. The settings file comes with the first start; what is \
         set waits for it, and the trial starts twice.",
        does: Does::Run(&["add", "net-and-line@=1.0", "--yes", "--quiet"]),
    },
    Act { about: "", does: Does::Run(&["settings", "net-and-line", "/multipliers/*=2", "--yes"]) },
    Act { about: "", does: Does::Run(&["trial"]) },
    Act {
        about: "A newer release brings new defaults. What was set stays; what is new is taken.",
        does: Does::Run(&["add", "net-and-line@*", "--later", "--quiet"]),
    },
    Act { about: "", does: Does::Run(&["update", "net-and-line", "--yes"]) },
    Act { about: "", does: Does::Run(&["settings", "net-and-line"]) },
    Act { about: "What was done, and by whom?", does: Does::Run(&["history"]) },
    Act { about: "Everything is in order.", does: Does::Run(&["check"]) },
];

/// The moor's story: configuration that is content.
pub(super) const MOOR: &[Act] = &[
    Act {
        about: "The festival has a second server: a Mossgarrow moor that never started. Its first start makes files and ends.",
        does: Does::Run(&["adopt", "--name", "Larkspur Moor", "--quiet"]),
    },
    Act { about: "", does: Does::Run(&["trial"]) },
    Act {
        about: "Items are known by a number, and to the server by the name of a folder in them. What an item's page says that it needs comes \
         along; keys, a region and its numbers go where they belong, and the game's own tool recompiles the regions.",
        does: Does::Run(&["add", "4410021", "4410188", "--yes"]),
    },
    Act { about: "Will players be let in?", does: Does::Run(&["keys"]) },
    Act { about: "Two of the items have one asset in two versions:", does: Does::Run(&["clashes"]) },
    Act {
        about: "The herons keep their pier, also through updates.",
        does: Does::Run(&["clashes", "keep", "--all", "--from", "Heronry", "--yes", "--quiet"]),
    },
    Act {
        about: "Tweaks are contents that are configuration only. A trader with lanterns, at a place of our choice:",
        does: Does::Run(&["add", "lantern-seller", "--set", "place=120.5,3,88", "--yes"]),
    },
    Act {
        about: "And one that writes two files that go together: something happens, and something is done about it.",
        does: Does::Run(&["add", "reed-burst", "--yes", "--quiet"]),
    },
    Act { about: "", does: Does::Run(&["trial"]) },
    Act {
        about: "At night somebody takes one half out by hand, and mistypes the trader's stock. The server says nothing of the half.",
        does: Does::Hand {
            file: "rules/answers.yml",
            from: "- to: reed_burst\n  do: sound the reed horn\n",
            to: "",
        },
    },
    Act {
        about: "",
        does: Does::Hand {
            file: "trade/people/lantern-seller.xml",
            from: "stock=\"lanterns\"",
            to: "stock=\"lantrens\"",
        },
    },
    Act { about: "", does: Does::Run(&["check"]) },
    Act { about: "", does: Does::Run(&["settle", "--yes"]) },
    Act {
        about: "The fen has a campaign of its own. Play it; the saves of the other one stay where they are.",
        does: Does::Run(&["maps", "play", "Reedfen/open", "--yes"]),
    },
    Act { about: "", does: Does::Run(&["maps"]) },
    Act { about: "", does: Does::Run(&["trial"]) },
    Act {
        about: "A setting that would break something is pointed out before it is made.",
        does: Does::Run(&["settings", "server", "/Hosting/ground=Reedfen; Basmarsh", "--later"]),
    },
    Act { about: "", does: Does::Run(&["preview", "--diff"]) },
];

/// The kites' story: what players get. `MIRROR` is the address of a file server.
pub(super) const KITES: &[Act] = &[
    Act {
        about: "The third server is for kites. Its players need its maps.",
        does: Does::Run(&["adopt", "--name", "Larkspur Kites"]),
    },
    Act { about: "", does: Does::Run(&["add", "gull_cliffs", "dusk_harbour", "--yes"]) },
    Act { about: "", does: Does::Run(&["maps", "play", "gull_cliffs", "--yes"]) },
    Act {
        about: "Players' games download maps from a web folder: only what they need, compressed as they expect it.",
        does: Does::Run(&["mirror", "build", "../web"]),
    },
    Act {
        about: "It is on a web host; the server tells players where, once a file was found there.",
        does: Does::Run(&["mirror", "address", "MIRROR", "--yes"]),
    },
    Act { about: "Start it, and join as a player with nothing.", does: Does::Run(&["trial", "--keep"]) },
    Act { about: "", does: Does::Run(&["rehearse"]) },
    Act { about: "", does: Does::Run(&["stop"]) },
    Act { about: "What to tell players:", does: Does::Run(&["handout"]) },
];

/// The harbour again, on another machine.
pub(super) const FAR: &[Act] = &[
    Act {
        about: "The same server, on another machine: there is an address, and nothing of Yalotheca is installed there. Take charge of it \
         from here.",
        does: Does::Run(&["adopt", "--name", "Larkspur Harbour"]),
    },
    Act { about: "", does: Does::Run(&["check"]) },
    Act {
        about: "Put it right: all or nothing, also if the line breaks.",
        does: Does::Run(&["fix", "--yes"]),
    },
    Act {
        about: "Bells, and what they need. Files are sent under other names and renamed once they are whole.",
        does: Does::Run(&["add", "tidebell", "--yes"]),
    },
    Act { about: "Where did it go?", does: Does::Run(&["where", "tidebell", "order.txt"]) },
    Act {
        about: "It is started in its panel, as always; its log is followed from here.",
        does: Does::Watch(&["trial", "--watch"]),
    },
    Act {
        about: "Nothing is changed under a server that runs.",
        does: Does::Run(&["settings", "server", "name=Larkspur by night", "--yes"]),
    },
    Act {
        about: "The bells again, after it was stopped. What is in the attic over there is renamed, not sent again.",
        does: Does::Run(&["undo", "--yes"]),
    },
    Act {
        about: "Who did what? It is kept with the server, so others see it too.",
        does: Does::Run(&["history"]),
    },
    Act { about: "Every byte, for once.", does: Does::Run(&["check", "--deep"]) },
];
