//! Surveys of stretches of one file, which follow one another.
//!
//! A stretch counts its lines from its own start, and cannot know whether it starts inside quotes: it says what it took
//! for granted, and how it ended. [`Survey::follow`] puts the next stretch behind one: its lines are moved, order is
//! joined where the two touch, and the two have to agree on the quotes between them. Facts of stretches in their
//! order are those of the whole.

use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::{PoolError, Survey};
use crate::text::LineRef;

/// Whether a place is between quotes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Quoting {
    /// Between records, or between fields.
    #[default]
    Outside,
    /// Within a quoted field.
    Inside,
}

/// What has to be known of a stretch to put another one behind it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Stretch {
    /// Line ends in it, and lines before it that its own count starts behind.
    pub lines: u64,
    /// What was taken for granted where it begins.
    pub began: Quoting,
    /// What was found where it ends.
    pub ended: Quoting,
}

impl Stretch {
    /// That of two parts of one stretch, which several threads looked at in any order.
    pub(super) fn and(self, other: Stretch) -> Stretch {
        let last = if other.lines > self.lines { other } else { self };
        Stretch { began: self.began, ..last }
    }
}

/// Stretches that do not follow one another.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum FollowError {
    /// One of them is not a stretch of a single file.
    #[error("a survey of several files, or of one as a whole, has nothing before or behind it")]
    NoStretch,
    /// They are of different files.
    #[error("{one} and {other} are different files")]
    Files {
        /// The file of the first.
        one: String,
        /// The file of the second.
        other: String,
    },
    /// The first ends otherwise than the second took for granted.
    #[error(
        "a quoted field goes on from one stretch of {file} to the next: the second has to be surveyed again"
    )]
    Quotes {
        /// The file.
        file: String,
    },
    /// Their columns or settings differ.
    #[error(transparent)]
    Pool(#[from] PoolError),
}

impl Survey {
    /// Puts the survey of the next stretch of the same file behind this one.
    ///
    /// # Errors
    /// Surveys that are not of stretches of one file, that were taken with other settings, or of which the second
    /// took for granted what the first did not find.
    pub fn follow(mut self, mut next: Survey) -> Result<Survey, FollowError> {
        let (Some(ours), Some(theirs)) = (self.stretch, next.stretch) else {
            return Err(FollowError::NoStretch);
        };
        let ([one], [other]) = (&mut self.source.files[..], &next.source.files[..]) else {
            return Err(FollowError::NoStretch);
        };
        if one.name != other.name {
            return Err(FollowError::Files { one: one.name.clone(), other: other.name.clone() });
        }
        if ours.ended != theirs.began {
            return Err(FollowError::Quotes { file: one.name.clone() });
        }
        one.bytes += other.bytes;
        let moved = |place: LineRef| LineRef { line: place.line + ours.lines, ..place };
        next.move_places(&moved);
        let stretch = Stretch { lines: ours.lines + theirs.lines, ..theirs };
        self.stretch = Some(Stretch { began: ours.began, ..stretch });
        let order = self.same_columns(&next)?;
        self.add_records(&mut next);
        let mut theirs: Vec<_> = next.columns.into_iter().map(Some).collect();
        for (column, at) in self.columns.iter_mut().zip(order) {
            column.follow(theirs[at].take().expect("every column is matched once"));
        }
        Ok(self)
    }
}

#[cfg(test)]
mod tests {
    use super::super::{SourceFile, SurveyOptions};
    use super::*;
    use crate::laws::{quoted, value};
    use crate::run::{NoMonitor, RunOptions};
    use crate::text::{Dialect, Input, InputChoice};
    use proptest::prelude::*;
    use std::num::NonZeroUsize;

    fn survey(text: &str, header: bool, block_bytes: usize) -> Survey {
        let choice = InputChoice {
            names: (!header).then(|| vec!["a".into(), "b".into()]),
            header: Some(header),
            ..InputChoice::from(Dialect::RFC_4180)
        };
        let input = Input::from_bytes("t.csv", text.as_bytes().to_vec(), &choice);
        let options = SurveyOptions { is_stretch: true, ..SurveyOptions::default() };
        let run = RunOptions { threads: NonZeroUsize::new(2).unwrap(), block_bytes };
        Survey::take(&input, &options, &run, &NoMonitor).unwrap()
    }

    /// A survey without what only the first of several stretches knows of the file.
    fn facts(mut survey: Survey) -> Vec<u8> {
        survey.source.layout = InputChoice::default();
        survey.source.is_named = true;
        survey.source.files.iter_mut().for_each(|file: &mut SourceFile| file.bytes = 0);
        let mut saved = Vec::new();
        survey.save(&mut saved).unwrap();
        saved
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(150))]

        /// Where records end may be cut, anywhere and more than once: nothing of the survey changes.
        #[test]
        fn stretches_in_their_order_are_the_whole(
            rows in proptest::collection::vec((value(), value()), 1..60),
            cuts in proptest::collection::vec(any::<prop::sample::Index>(), 0..4),
            sorted in any::<bool>(), block_bytes in 16usize..300,
        ) {
            let mut rows = rows;
            if sorted {
                rows.sort();
            }
            let row = |(a, b): &(String, String)| format!("{},{}\n", quoted(a), quoted(b));
            let mut cuts: Vec<usize> = cuts.iter().map(|cut| cut.index(rows.len() + 1)).collect();
            cuts.sort_unstable();
            cuts.push(rows.len());
            cuts.dedup();
            let text = |rows: &[(String, String)]| rows.iter().map(row).collect::<String>();
            let whole = survey(&format!("a,b\n{}", text(&rows)), true, block_bytes);
            let first = survey(&format!("a,b\n{}", text(&rows[..cuts[0]])), true, 1 << 20);
            let joined = cuts.windows(2).fold(first, |before, pair| {
                before.follow(survey(&text(&rows[pair[0]..pair[1]]), false, 64)).unwrap()
            });
            prop_assert_eq!(joined.stretch, whole.stretch);
            prop_assert!(facts(joined) == facts(whole));
        }
    }

    #[test]
    fn lines_are_those_of_the_file() {
        let first = survey("a,b\n1,2\n\n3,4\n", true, 1 << 20);
        assert_eq!(first.stretch.unwrap().lines, 4);
        let both = first.follow(survey("5,6\nx,8\n7,8,9\n", false, 1 << 20)).unwrap();
        assert_eq!(both.broken_examples[0].place.line, 7);
        assert_eq!((both.records, both.broken), (4, 1));
        let first = both.columns[0].distinct_values();
        let x = first.iter().find(|found| found.value == b"x").unwrap();
        assert_eq!(x.first, LineRef { part: 0, line: 6 });
    }

    #[test]
    fn a_quote_that_is_open_is_not_passed_over() {
        let open = survey("a,b\n1,\"two\n", true, 1 << 20);
        assert_eq!(open.stretch.unwrap().ended, Quoting::Inside);
        let error = open.follow(survey("three\",4\n", false, 1 << 20)).unwrap_err();
        assert_eq!(error, FollowError::Quotes { file: "t.csv".into() });
    }

    #[test]
    fn only_stretches_follow() {
        let stretch = survey("a,b\n1,2\n", true, 1 << 20);
        let whole = Survey { stretch: None, ..stretch.clone() };
        assert_eq!(whole.follow(stretch.clone()).unwrap_err(), FollowError::NoStretch);
        let mut other = stretch.clone();
        other.source.files[0].name = "u.csv".into();
        let error = stretch.follow(other).unwrap_err();
        assert_eq!(error.to_string(), "t.csv and u.csv are different files");
    }
}
