//! An index of many rules: an automaton finds, in one pass over a path, the rules that may match it.

use std::collections::HashMap;
use std::sync::Arc;

use aho_corasick::AhoCorasick;

use super::pattern::{PathRule, matches};

/// An index of rules.
#[derive(Debug, Clone)]
pub(super) struct RuleIndex {
    rules: Vec<Arc<PathRule>>,
    /// Finds the longest literal piece of each pattern. If it cannot be made, all rules are compared.
    automaton: Option<AhoCorasick>,
    /// The rules with each literal, the most decisive first.
    by_literal: Vec<Vec<u32>>,
    /// The rules without a literal.
    others: Vec<u32>,
}

impl RuleIndex {
    /// An index of these rules.
    pub(super) fn of<'r>(rules: impl Iterator<Item = &'r Arc<PathRule>>) -> Self {
        let rules: Vec<Arc<PathRule>> = rules.cloned().collect();
        let (mut literals, mut by_literal, mut others) =
            (HashMap::<&str, usize>::new(), Vec::<Vec<u32>>::new(), Vec::new());
        for (rule, at) in rules.iter().zip(0..) {
            match literal(&rule.pattern) {
                "" => others.push(at),
                literal => {
                    let next = by_literal.len();
                    let place = *literals.entry(literal).or_insert(next);
                    by_literal.resize(by_literal.len().max(place + 1), Vec::new());
                    by_literal[place].push(at);
                }
            }
        }
        let mut named: Vec<(&str, usize)> = literals.into_iter().collect();
        named.sort_unstable_by_key(|(_, place)| *place);
        let automaton = AhoCorasick::new(named.into_iter().map(|(literal, _)| literal)).ok();
        let decisive = |at: &u32| std::cmp::Reverse((rules[*at as usize].weight(), *at));
        by_literal.iter_mut().for_each(|some| some.sort_unstable_by_key(decisive));
        if automaton.is_none() {
            others = (0..rules.len() as u32).collect();
        }
        others.sort_unstable_by_key(decisive);
        Self { rules, automaton, by_literal, others }
    }

    /// The rule that decides about a path: of those that match, the longest, and of equally long ones one that allows (RFC 9309, section 2.2.2).
    pub(super) fn decisive(&self, path: &str) -> Option<&PathRule> {
        let mut best = None;
        let mut look = |some: &[u32]| {
            for at in some {
                let rule = &self.rules[*at as usize];
                if best.is_some_and(|best| best >= (rule.weight(), *at)) {
                    break;
                }
                if matches(&rule.pattern, path) {
                    best = Some((rule.weight(), *at));
                }
            }
        };
        look(&self.others);
        for found in self.automaton.iter().flat_map(|automaton| automaton.find_overlapping_iter(path)) {
            look(&self.by_literal[found.pattern().as_usize()]);
        }
        best.map(|(_, at)| &*self.rules[at as usize])
    }
}

/// The longest piece of a pattern that every path that matches contains; empty if there is none.
fn literal(pattern: &str) -> &str {
    let pattern = pattern.strip_suffix('$').unwrap_or(pattern);
    pattern.split('*').max_by_key(|piece| piece.len()).unwrap_or("")
}
