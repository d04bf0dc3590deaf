//! The words of questions and of groups, and what can be said of a column with them. Nothing is known of columns and types here.

use std::ops::Range;

use thiserror::Error;

/// Something typed that is not understood.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{message}")]
pub struct PhraseError {
    /// The bytes that are wrong.
    pub span: Range<usize>,
    /// What is wrong, and what to do about it.
    pub message: String,
}

/// A name or a value, and where it stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Word {
    pub text: String,
    pub span: Range<usize>,
}

impl Word {
    pub fn wrong(&self, message: impl Into<String>) -> PhraseError {
        PhraseError { span: self.span.clone(), message: message.into() }
    }
}

/// A column, or a function of something and a value: `sold_on`, `year(sold_on)`, `bucket(fare, 10)`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Spoken {
    Column(Word),
    Call { function: Word, of: Option<Box<Spoken>>, with: Option<Word> },
}

impl Spoken {
    /// What it is called: its words in their usual distance.
    pub fn name(&self) -> String {
        match self {
            Spoken::Column(word) => word.text.clone(),
            Spoken::Call { function, of: None, .. } => function.text.clone(),
            Spoken::Call { function, of: Some(of), with } => {
                let with = with.as_ref().map_or(String::new(), |with| format!(", {}", with.text));
                format!("{}({}{with})", function.text, of.name())
            }
        }
    }

    /// Where it starts.
    pub fn word(&self) -> &Word {
        match self {
            Spoken::Column(word) | Spoken::Call { function: word, .. } => word,
        }
    }
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Token {
    /// A bare word or number.
    Bare(String),
    /// A column in double quotes.
    Name(String),
    /// A text in single quotes.
    Text(String),
    /// An operator, a comma or a parenthesis.
    Mark(&'static str),
    End,
}

const MARKS: [&str; 10] = ["<=", ">=", "<>", "!=", "=", "<", ">", "(", ")", ","];

/// Takes tokens one after the other.
pub(crate) struct Phrase {
    tokens: Vec<(Token, Range<usize>)>,
    at: usize,
}

impl Phrase {
    /// The tokens of a text.
    ///
    /// # Errors
    /// A quote that is never closed, and letters that say nothing.
    pub fn of(text: &str) -> Result<Phrase, PhraseError> {
        Ok(Phrase { tokens: tokens(text)?, at: 0 })
    }

    pub fn peek(&self) -> &Token {
        &self.tokens[self.at].0
    }

    /// Where the next token stands.
    pub fn span(&self) -> Range<usize> {
        self.tokens[self.at].1.clone()
    }

    pub fn next(&mut self) -> (Token, Range<usize>) {
        let token = self.tokens[self.at].clone();
        self.at = (self.at + 1).min(self.tokens.len() - 1);
        token
    }

    pub fn is_over(&self) -> bool {
        *self.peek() == Token::End
    }

    pub fn wrong(&self, wanted: &str) -> PhraseError {
        let found = match self.peek() {
            Token::Bare(word) => format!("'{word}'"),
            Token::Name(name) => format!("the column \"{name}\""),
            Token::Text(text) => format!("the text '{text}'"),
            Token::Mark(mark) => format!("'{mark}'"),
            Token::End => "the end".into(),
        };
        PhraseError { span: self.span(), message: format!("{wanted} is missing before {found}") }
    }

    /// Takes a word of the language, if it is next.
    pub fn takes(&mut self, word: &str) -> bool {
        let is_next = matches!(self.peek(), Token::Bare(next) if next.eq_ignore_ascii_case(word));
        self.at += usize::from(is_next);
        is_next
    }

    pub fn takes_mark(&mut self, mark: &str) -> bool {
        let is_next = matches!(self.peek(), Token::Mark(next) if *next == mark);
        self.at += usize::from(is_next);
        is_next
    }

    pub fn needs_mark(&mut self, mark: &str) -> Result<(), PhraseError> {
        if self.takes_mark(mark) { Ok(()) } else { Err(self.wrong(&format!("'{mark}'"))) }
    }

    /// A column, or a function of one. A bare word before a parenthesis is a function.
    pub fn spoken(&mut self) -> Result<Spoken, PhraseError> {
        // As deep as anything has a meaning: a measure of a part of a column.
        self.spoken_within(2)
    }

    fn spoken_within(&mut self, depth: usize) -> Result<Spoken, PhraseError> {
        let (is_bare, text) = match self.peek() {
            Token::Bare(text) => (true, text.clone()),
            Token::Name(text) => (false, text.clone()),
            _ => return Err(self.wrong("a column")),
        };
        let word = Word { text, span: self.next().1 };
        if !is_bare || *self.peek() != Token::Mark("(") {
            return Ok(Spoken::Column(word));
        }
        if depth == 0 {
            return Err(word.wrong("a column belongs here, and not a function of one"));
        }
        self.next();
        let function = Word { text: word.text.to_ascii_lowercase(), span: word.span };
        if self.takes_mark(")") {
            return Ok(Spoken::Call { function, of: None, with: None });
        }
        let of = Some(Box::new(self.spoken_within(depth - 1)?));
        let with = if self.takes_mark(",") { Some(self.value()?) } else { None };
        self.needs_mark(")")?;
        Ok(Spoken::Call { function, of, with })
    }

    /// A text in quotes, a number, true or false.
    pub fn value(&mut self) -> Result<Word, PhraseError> {
        match self.peek().clone() {
            Token::Text(text) => Ok(Word { text, span: self.next().1 }),
            Token::Bare(text) if is_plain(&text) => Ok(Word { text, span: self.next().1 }),
            Token::Bare(text) => Err(PhraseError {
                span: self.span(),
                message: format!("texts and dates stand in single quotes: '{text}'"),
            }),
            _ => Err(self.wrong("a value")),
        }
    }
}

fn tokens(text: &str) -> Result<Vec<(Token, Range<usize>)>, PhraseError> {
    let mut tokens = Vec::new();
    let mut at = 0;
    while let Some(letter) = text[at..].chars().next() {
        let rest = &text[at..];
        if letter.is_whitespace() {
            at += letter.len_utf8();
            continue;
        }
        let (token, length) = if let Some(mark) = MARKS.iter().find(|mark| rest.starts_with(**mark))
        {
            (Token::Mark(mark), mark.len())
        } else if letter == '\'' || letter == '"' {
            let (inner, length) = quoted(rest, letter).ok_or_else(|| PhraseError {
                span: at..text.len(),
                message: format!("the quote {letter} is never closed"),
            })?;
            (if letter == '"' { Token::Name(inner) } else { Token::Text(inner) }, length)
        } else {
            let ends = |c: char| c.is_whitespace() || "<>=!(),'\"".contains(c);
            let length = rest.find(ends).unwrap_or(rest.len());
            if length == 0 {
                let message = format!("'{letter}' says nothing here; for 'is not' write '!='");
                return Err(PhraseError { span: at..at + letter.len_utf8(), message });
            }
            (Token::Bare(rest[..length].to_owned()), length)
        };
        tokens.push((token, at..at + length));
        at += length;
    }
    tokens.push((Token::End, text.len()..text.len()));
    Ok(tokens)
}

/// What stands in quotes at the start of a text, a doubled quote being one, and its length with them.
fn quoted(text: &str, quote: char) -> Option<(String, usize)> {
    let mut inner = String::new();
    let mut letters = text.char_indices().skip(1).peekable();
    while let Some((at, letter)) = letters.next() {
        if letter != quote {
            inner.push(letter);
        } else if letters.peek().is_some_and(|(_, next)| *next == quote) {
            inner.push(quote);
            letters.next();
        } else {
            return Some((inner, at + 1));
        }
    }
    None
}

/// Whether a value may stand without quotes.
fn is_plain(word: &str) -> bool {
    matches!(word, "true" | "false") || crate::readings::parse_number(word.as_bytes()).is_some()
}
