//! Seeded synthetic catalogues: the families of the solver bench.
//!
//! Packages have numbers, releases 1 to r (a higher one is newer). A package needs only packages with lower numbers, so
//! there are no circles. `skew` above 1 makes the low numbers popular. `open` percent of the needs are ">= lo", the rest are
//! windows of `w` around a centre, which follows the release's own number where `follow` is set. With `planted` every package
//! has a hidden release, and those always fit one another, so that the catalogue is solvable; with `low` the hidden ones are
//! old. `miss` permille of the needs ask for numbers that were never published; `conf` permille of the releases refuse a
//! window of some other package. `unsat` adds two chains that need disjoint halves of package 0.

/// A need or a refusal: releases `lo` to `hi` of package `on`.
#[derive(Debug, Clone)]
pub(crate) struct Window {
    pub(crate) on: u32,
    pub(crate) lo: u32,
    pub(crate) hi: u32,
}

/// One release.
#[derive(Debug, Clone, Default)]
pub(crate) struct Release {
    pub(crate) number: u32,
    pub(crate) needs: Vec<Window>,
    pub(crate) refuses: Vec<Window>,
}

/// A catalogue.
#[derive(Debug, Clone, Default)]
pub(crate) struct Catalogue {
    pub(crate) names: Vec<String>,
    pub(crate) packages: Vec<Vec<Release>>,
    pub(crate) roots: Vec<Window>,
}

/// What to generate.
#[derive(Debug, Clone)]
pub(crate) struct Parameters {
    pub(crate) n: u32,
    pub(crate) r: u32,
    pub(crate) d: u32,
    pub(crate) roots: u32,
    pub(crate) seed: u64,
    pub(crate) skew: f64,
    pub(crate) open: u64,
    pub(crate) w: u32,
    pub(crate) follow: bool,
    pub(crate) planted: bool,
    pub(crate) low: bool,
    pub(crate) miss: u64,
    pub(crate) conf: u64,
    pub(crate) unsat: u32,
}

/// The random numbers: splitmix64.
struct Random(u64);

impl Random {
    fn step(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        z ^ (z >> 31)
    }

    fn below(&mut self, n: u64) -> u64 {
        self.step() % n.max(1)
    }

    fn below32(&mut self, n: u32) -> u32 {
        u32::try_from(self.below(u64::from(n))).unwrap_or(0)
    }

    #[expect(clippy::cast_precision_loss, reason = "53 bits fit")]
    fn fraction(&mut self) -> f64 {
        (self.step() >> 11) as f64 / (1_u64 << 53) as f64
    }

    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a fraction of a u32")]
    fn pick(&mut self, skew: f64, below: u32) -> u32 {
        ((self.fraction().powf(skew) * f64::from(below)) as u32).min(below.saturating_sub(1))
    }
}

impl Parameters {
    fn window(&self, centre: u32) -> (u32, u32) {
        (centre.saturating_sub(self.w).max(1), (centre + self.w).min(self.r))
    }
}

/// Generates a catalogue.
pub(crate) fn generate(p: &Parameters) -> Catalogue {
    let mut random = Random(p.seed);
    let good: Vec<u32> = (0..p.n).map(|_| 1 + random.below32(if p.low { p.r / 3 } else { p.r })).collect();
    let mut catalogue = Catalogue::default();
    for package in 0..p.n {
        // Most releases of a package share what they need.
        let fixed: Vec<u32> = (0..p.d).map(|_| random.pick(p.skew, package)).collect();
        let releases =
            (1..=p.r).map(|number| release(p, &mut random, (package, number), &fixed, &good)).collect();
        catalogue.names.push(format!("pkg{package:05}"));
        catalogue.packages.push(releases);
    }
    for i in 0..p.roots {
        let half = p.n / 2;
        let on = if p.roots >= p.n { i } else { half + i * (p.n - half) / p.roots };
        catalogue.roots.push(Window { on, lo: 1, hi: p.r + 1000 });
    }
    if p.unsat > 0 {
        chains(p, &mut catalogue);
    }
    catalogue
}

fn release(
    p: &Parameters,
    random: &mut Random,
    (package, number): (u32, u32),
    fixed: &[u32],
    good: &[u32],
) -> Release {
    let planted = p.planted && number == good[package as usize];
    let mut release = Release { number, ..Release::default() };
    let count = random.below(2 * u64::from(p.d) + 1).min(u64::from(package));
    for i in 0..count {
        let at = usize::try_from(i).unwrap_or(0) % fixed.len();
        let on = if random.below(10) < 8 { fixed[at] } else { random.pick(p.skew, package) };
        if release.needs.iter().any(|need| need.on == on) {
            continue;
        }
        let centre =
            if p.follow { number.saturating_sub(random.below32(3)).max(1) } else { 1 + random.below32(p.r) };
        let (mut lo, mut hi) = p.window(centre);
        if random.below(100) < p.open {
            hi = p.r + 1000;
        }
        if planted {
            (lo, hi) = (lo.min(good[on as usize]), hi.max(good[on as usize]));
        } else if random.below(1000) < p.miss {
            (lo, hi) = (p.r + 1, p.r + 9);
        }
        release.needs.push(Window { on, lo, hi });
    }
    if package > 0 && !planted && random.below(1000) < p.conf {
        let on = random.pick(p.skew, package);
        let (lo, hi) = p.window(1 + random.below32(p.r));
        if !release.needs.iter().any(|need| need.on == on) {
            release.refuses.push(Window { on, lo, hi });
        }
    }
    // The original draws a file's size here; the draw keeps the sequence the same.
    random.below(1 << 26);
    release
}

/// Two chains that need disjoint halves of package 0.
fn chains(p: &Parameters, catalogue: &mut Catalogue) {
    for half in 0..2 {
        for i in 0..p.unsat {
            let last = u32::try_from(catalogue.packages.len()).unwrap_or(u32::MAX) - 1;
            let need = if i == 0 {
                let hi = if half == 0 { p.r / 2 } else { p.r };
                Window { on: 0, lo: 1 + half * (p.r / 2), hi }
            } else {
                Window { on: last, lo: 1, hi: p.r }
            };
            let releases =
                (1..=p.r).map(|number| Release { number, needs: vec![need.clone()], refuses: vec![] });
            catalogue.names.push(format!("chain{half}x{i}"));
            catalogue.packages.push(releases.collect());
        }
        let on = u32::try_from(catalogue.packages.len()).unwrap_or(u32::MAX) - 1;
        catalogue.roots.push(Window { on, lo: 1, hi: p.r });
    }
}
