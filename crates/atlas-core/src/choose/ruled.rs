//! The settings that the rules give one entry.

use super::rule::{Rule, RuleSubject};
use super::trail::{Setting, SettingOrigin, Trail};
use crate::entry::{Changefreq, DatePolicy};
use crate::hint::PriorityHint;

/// The settings that the rules give one entry: for each setting, the last rule that matches wins.
#[derive(Debug, Default)]
pub(super) struct Ruled<'r> {
    pub(super) keep: Option<Setting<bool>>,
    pub(super) section: Option<Setting<&'r str>>,
    pub(super) changefreq: Option<Setting<Changefreq>>,
    pub(super) priority: Option<Setting<PriorityHint>>,
    pub(super) date_policy: Option<Setting<DatePolicy>>,
    pub(super) announce: Option<Setting<bool>>,
}

impl<'r> Ruled<'r> {
    /// Applies all rules; for each setting, the last rule that matches wins.
    pub(super) fn of(rules: &'r [Rule], facts: &RuleSubject<'_>, trail: &mut impl Trail) -> Self {
        let mut ruled = Self::default();
        for rule in rules {
            let against = rule.against(facts);
            trail.pass("rule", || match against {
                // If a rule has only one condition, that is the one that does not hold.
                Some(_) if rule.conditions.len() == 1 => {
                    format!("line {}, {}: does not apply", rule.line, rule.is_for())
                }
                Some(condition) => format!("line {}, {}: does not apply because {condition}", rule.line, rule.is_for()),
                None => format!("line {}, {}: {}", rule.line, rule.is_for(), rule.says()),
            });
            if against.is_some() {
                continue;
            }
            let from = SettingOrigin::Rule(rule.line);
            fn set<T>(word: &mut Option<Setting<T>>, value: Option<T>, from: SettingOrigin) {
                if let Some(value) = value {
                    *word = Some(Setting { value, from });
                }
            }
            set(&mut ruled.keep, rule.keep, from);
            set(&mut ruled.section, rule.section.as_deref(), from);
            set(&mut ruled.changefreq, rule.hints.changefreq, from);
            set(&mut ruled.priority, rule.hints.priority, from);
            set(&mut ruled.date_policy, rule.hints.date_policy, from);
            set(&mut ruled.announce, rule.hints.announce, from);
        }
        ruled
    }
}
