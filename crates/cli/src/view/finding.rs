//! Findings, with what can be done about each in words.

use serde::Serialize;
use yalotheca_core::check::{Finding, Weight};

use super::advice::in_words;

/// A finding, ready to be shown or written as JSON.
#[derive(Debug, Serialize)]
pub(crate) struct FindingView {
    pub(crate) weight: Weight,
    pub(crate) code: &'static str,
    pub(crate) about: String,
    pub(crate) says: String,
    means: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) fix: Option<String>,
    /// Whether `fix` does something about it.
    fixable: bool,
}

impl FindingView {
    /// Returns findings in words.
    pub(crate) fn all(findings: &[Finding]) -> Vec<Self> {
        findings.iter().map(Self::of).collect()
    }

    fn of(finding: &Finding) -> Self {
        Self {
            weight: finding.weight,
            code: finding.code,
            about: finding.about.clone(),
            says: finding.says.clone(),
            means: finding.means,
            fix: finding.fix.as_ref().map(in_words),
            fixable: finding.remedy.is_some(),
        }
    }
}
