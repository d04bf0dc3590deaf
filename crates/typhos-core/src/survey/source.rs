//! What a survey is of: files, names and layout, as far as a draft needs them.

use crate::text::{Charset, Dialect, Input, InputChoice, InputFile, InputFormat, ShortRecords};

/// A file of a survey.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct SourceFile {
    /// Its name, as it was given.
    pub name: String,
    /// Its bytes, as it is stored; 0 for a stream.
    pub bytes: u64,
}

/// Where the facts of a survey come from.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct SurveySource {
    /// The files, ordered by their names: so that the order they were given in, or pooled in, changes
    /// nothing.
    pub files: Vec<SourceFile>,
    /// The names of the columns.
    pub names: Vec<String>,
    /// Whether those stand in the files (or were said), and are not just numbers.
    pub is_named: bool,
    /// What a schema has to say of the input: what was said, and what was found that is not as usual.
    pub layout: InputChoice,
}

impl SurveySource {
    /// The source that an input is, the place of each of its files in it, and the files by their places. Of what is only shown
    /// the layout need not be found again.
    pub(super) fn of(input: &Input, only_shown: bool) -> (SurveySource, Vec<u32>, Vec<usize>) {
        let files = input.files().iter();
        let files: Vec<_> =
            files.map(|file| SourceFile { name: file.name(), bytes: file.bytes() }).collect();
        // A part of an input is of those files that it has something of.
        let read = |file: &usize| input.files()[*file].is_read();
        let mut order: Vec<usize> = (0..files.len()).filter(read).collect();
        order.sort_by(|a, b| files[*a].cmp(&files[*b]));
        let mut ranks = vec![0; files.len()];
        order.iter().enumerate().for_each(|(rank, file)| ranks[*file] = rank as u32);
        let source = SurveySource {
            files: order.iter().map(|file| files[*file].clone()).collect(),
            names: input.names().to_vec(),
            is_named: input.is_named(),
            layout: match only_shown && !input.is_json() {
                true => input.choice().clone(),
                false => layout(input),
            },
        };
        (source, ranks, order)
    }
}

/// What a schema says of its input: what was said, and what was found that is not as usual. What may
/// differ from file to file is left to be found again.
fn layout(input: &Input) -> InputChoice {
    if input.is_json() {
        let found = InputChoice { format: Some(InputFormat::Json), ..InputChoice::default() };
        return input.choice().or(&found);
    }
    let dialect = input.dialect();
    let looked_at = || input.files().iter().filter(|file| file.is_looked_at());
    let alike = |same: &dyn Fn(&InputFile) -> bool| looked_at().all(same);
    let usual = Dialect::RFC_4180;
    let found = InputChoice {
        delimiter: Some(dialect.delimiter),
        quote: Some(dialect.quote).filter(|quote| *quote != usual.quote),
        escape: Some(dialect.escape).filter(|escape| *escape != usual.escape),
        line_ends: Some(dialect.line_ends)
            .filter(|ends| ends.has_cr() && alike(&|file| file.dialect().line_ends == *ends)),
        comment: dialect.comment.map(Some),
        trailing_delimiter: Some(true).filter(|_| alike(&|file| file.dialect().trailing_delimiter)),
        header: Some(dialect.header),
        skip: Some(dialect.skip)
            .filter(|skip| *skip > 0 && alike(&|file| file.dialect().skip == *skip)),
        skip_below: Some(dialect.skip_below)
            .filter(|skip| *skip > 0 && alike(&|file| file.dialect().skip_below == *skip)),
        short_records: Some(ShortRecords::Absent)
            .filter(|_| dialect.short_records && alike(&|file| file.dialect().short_records)),
        encoding: Charset::parse(input.encoding()).ok().filter(|encoding| {
            *encoding != Charset::UTF_8 && alike(&|file| file.encoding_name() == encoding.name())
        }),
        ..InputChoice::default()
    };
    let least = input.choice().or(&found);
    if input.is_found_again(&least) == Some(true) {
        return least;
    }
    // What goes without saying is found otherwise, once the rest is said: so that is said too.
    let more = least.or(&InputChoice {
        line_ends: Some(dialect.line_ends)
            .filter(|ends| alike(&|file| file.dialect().line_ends == *ends)),
        skip: Some(dialect.skip).filter(|skip| alike(&|file| file.dialect().skip == *skip)),
        ..InputChoice::default()
    });
    if input.is_found_again(&more) != Some(false) {
        return more;
    }
    let names = InputChoice { names: Some(input.names().to_vec()), ..more.clone() };
    if input.is_found_again(&names) == Some(true) { names } else { more }
}
