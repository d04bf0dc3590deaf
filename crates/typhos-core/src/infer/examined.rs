//! A survey examined under rules: its facts, what its columns prove about each other, and what was decided.

use std::borrow::Cow;
use std::num::NonZeroUsize;

use super::dates::{self, Context, DateFindings, NoDate};
use super::profile::{self, Profile};
use super::{Decision, Rules, Strings, one};
use crate::run;
use crate::survey::{ColumnFacts, Facts, Survey};
use crate::text::InputFormat;

/// Columns whose facts are held all at once. Facts are larger than what they are worked out from, where columns are
/// many and have few values: of more they are worked out whenever they are asked for.
const MOST_HELD: usize = 2_000;

/// A survey under rules, with everything that follows from it worked out once.
#[derive(Debug)]
pub struct Examined {
    /// What was surveyed.
    pub survey: Survey,
    /// What was decided about each column.
    pub decisions: Vec<Decision>,
    rules: Rules,
    grounds: Grounds,
}

impl Examined {
    /// Decides about every column of a survey; what is known of each is worked out on several threads.
    pub fn of(survey: Survey, rules: Rules, threads: NonZeroUsize) -> Examined {
        let rules = under(&survey, &rules);
        let grounds = Grounds::of(&survey, &rules, threads);
        let decisions = grounds.decide(&survey, &rules);
        Examined { survey, decisions, rules, grounds }
    }

    /// The facts of the column at a place.
    pub fn facts(&self, at: usize) -> Cow<'_, Facts> {
        self.grounds.facts(&self.survey, at)
    }

    /// Everything there is to say about the column at a place.
    pub fn profile(&self, at: usize) -> Profile {
        let (column, decision) = (&self.survey.columns[at], &self.decisions[at]);
        profile::profile(column, decision, &self.rules_of(at), &self.grounds.context)
    }

    /// Finds the patterns of the dates of the column at a place, whatever else is in it.
    pub fn dates(&self, at: usize) -> DateFindings {
        match dates::decide(&self.facts(at), &self.rules_of(at), &self.grounds.context) {
            Ok(decision) => DateFindings::Patterns(Box::new(decision)),
            Err(NoDate::Ambiguous(question)) => DateFindings::Asked(question),
            Err(NoDate::Unfit(reason)) => DateFindings::None(reason),
        }
    }

    fn rules_of(&self, at: usize) -> Cow<'_, Rules> {
        self.rules.of(&self.survey.source.names[at])
    }
}

/// The rules as they hold for a survey: where the format does not tell texts from numbers, all are read alike.
fn under(survey: &Survey, rules: &Rules) -> Rules {
    let is_told = survey.source.layout.format == Some(InputFormat::Json);
    let strings = if is_told { rules.strings } else { Strings::Numbers };
    Rules { strings, ..rules.clone() }
}

/// Decides about every column of a survey that is needed for more than that; see [`Examined::of`].
pub fn decide(survey: &Survey, rules: &Rules) -> Vec<Decision> {
    let rules = under(survey, rules);
    Grounds::of(survey, &rules, NonZeroUsize::MIN).decide(survey, &rules)
}

/// What decisions about the columns of a survey rest on.
#[derive(Debug)]
struct Grounds {
    /// The facts of all columns; of none, where they are too many.
    facts: Vec<Facts>,
    /// What one column proves about the order of its dates or about its decimal mark holds for the others
    /// that are written alike.
    context: Context,
}

impl Grounds {
    fn of(survey: &Survey, rules: &Rules, threads: NonZeroUsize) -> Grounds {
        let columns = &survey.columns;
        let held = if columns.len() <= MOST_HELD { &columns[..] } else { &[] };
        let facts: Vec<Facts> = run::each(threads, held.iter(), ColumnFacts::facts);
        let (files, names) = (survey.files(), &survey.source.names);
        let context = if facts.is_empty() {
            Context::collect(files, names, columns.iter().map(ColumnFacts::facts), rules)
        } else {
            Context::collect(files, names, &facts, rules)
        };
        Grounds { facts, context }
    }

    fn facts(&self, survey: &Survey, at: usize) -> Cow<'_, Facts> {
        match self.facts.get(at) {
            Some(facts) => Cow::Borrowed(facts),
            None => Cow::Owned(survey.columns[at].facts()),
        }
    }

    fn decide(&self, survey: &Survey, rules: &Rules) -> Vec<Decision> {
        let columns = survey.columns.iter().zip(&survey.source.names).enumerate();
        let decided = columns.map(|(at, (column, name))| {
            let facts = self.facts(survey, at);
            one(column, &facts, survey.records_of(at), &rules.of(name), &self.context)
        });
        decided.collect()
    }
}
