//! Which encoding a text has that is not UTF-8: a judgement, never a certainty.
//!
//! The detector's guess counts where the text decodes without an error and into words: letters beside
//! letters. What decodes into signs in the middle of words is held against the code pages of old, which
//! no detector knows. Whatever is found is shown with a few of the words that come out of it, and with
//! the other encodings that would make words as well.

use std::borrow::Cow;

use chardetng::{EncodingDetector, Iso2022JpDetection, Utf8Detection};

use super::Charset;

/// Encodings that are tried beside the detector's guess, the more likely ones first.
const OTHERS: [&str; 18] = [
    "windows-1252",
    "windows-1250",
    "windows-1251",
    "cp850",
    "cp437",
    "cp852",
    "cp866",
    "iso-8859-15",
    "iso-8859-2",
    "macintosh",
    "koi8-r",
    "windows-1253",
    "windows-1254",
    "windows-1257",
    "shift_jis",
    "gbk",
    "big5",
    "euc-kr",
];

/// What is tried first where the guess makes no words: the page that has the euro sign where others have one
/// for any currency, and the code pages of old.
const NEXT: [&str; 5] = ["iso-8859-15", "cp850", "cp852", "cp437", "macintosh"];

/// Share of letters beyond ASCII that must stand like letters in words.
const WORDLY: f64 = 0.9;

/// Bytes of lines beyond ASCII that are judged: so many show what words are made of, and more of them only take time.
const JUDGED_BYTES: usize = 64 << 10;

/// Bytes of a line that are judged, from its first letter beyond ASCII on, and those before it, which its word may have
/// begun with.
const LINE_BYTES: usize = 4 << 10;
const LETTERS_BEFORE: usize = 64;

/// Words that are shown.
const SHOWN: usize = 3;

/// Other encodings that are named.
const NAMED: usize = 3;

/// A judgement about a text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Guess {
    /// The most likely encoding.
    pub charset: Charset,
    /// A few words of the text, decoded by it.
    pub words: Vec<String>,
    /// Other encodings that make words of the text, and other ones.
    pub others: Vec<Charset>,
}

impl Guess {
    /// The judgement for a person.
    pub fn why(&self) -> String {
        let words: Vec<_> = self.words.iter().map(|word| crate::wording::shown(word)).collect();
        let reads = if words.is_empty() {
            "decodes without an error".to_owned()
        } else {
            format!("it reads {}", words.join(", "))
        };
        let others: Vec<_> = self.others.iter().map(|other| other.label()).collect();
        let others = match others.is_empty() {
            true => String::new(),
            false => format!("; {} would read as well", others.join(", ")),
        };
        format!("likely: not UTF-8, and {reads}{others}")
    }

    /// The labels of the likely encoding, and of others.
    pub fn labels(&self) -> Vec<String> {
        std::iter::once(&self.charset).chain(&self.others).map(|charset| charset.label()).collect()
    }
}

/// Judges a text that is not UTF-8, or the part of one up to the end of a line. `None` where it is UTF-8 but
/// for a few bytes, and where nothing makes words of it.
pub(super) fn guess(text: &[u8]) -> Option<Guess> {
    let (mut valid, mut wrong) = (0usize, 0usize);
    for chunk in text.utf8_chunks() {
        valid += chunk.valid().chars().filter(|letter| !letter.is_ascii()).count();
        wrong += usize::from(!chunk.invalid().is_empty());
    }
    // Pairs of bytes that are UTF-8 by chance are few; where most are, the others are mistakes.
    if wrong == 0 || valid > 2 * wrong {
        return None;
    }
    let judged = judged(text);
    let mut detector = EncodingDetector::new(Iso2022JpDetection::Deny);
    detector.feed(&judged, true);
    let detected = Charset::standard(detector.guess(None, Utf8Detection::Deny));
    let label = |label: &&str| Charset::parse(label).ok();
    let mut best: Option<(f64, Charset, String)> = None;
    let mut take = |charset: Charset| {
        // What is valid in the lines that are judged may not be in the others.
        if let Some(score) = score(charset, &judged)
            && best.as_ref().is_none_or(|(known, ..)| score > *known)
            && let Some(decoded) = charset.decode(text)
        {
            best = Some((score, charset, decoded));
        }
        best.as_ref().is_some_and(|(score, ..)| *score >= WORDLY)
    };
    if !take(detected) {
        NEXT.iter().chain(&OTHERS).filter_map(label).for_each(|charset| _ = take(charset));
    }
    let (_, charset, decoded) = best.filter(|(score, ..)| *score > 0.5)?;
    let mut texts = vec![decoded];
    let mut others = Vec::new();
    for other in OTHERS.iter().filter_map(label) {
        if others.len() < NAMED
            && score(other, &judged).is_some_and(|score| score >= WORDLY)
            && let Some(decoded) = other.decode(text)
            && !texts.contains(&decoded)
        {
            others.push(other);
            texts.push(decoded);
        }
    }
    Some(Guess { charset, words: words(&texts[0]), others })
}

/// The lines of a text that are not ASCII; of many, some from all over it.
fn judged(text: &[u8]) -> Cow<'_, [u8]> {
    if text.len() <= JUDGED_BYTES {
        return Cow::Borrowed(text);
    }
    let lines = || text.split_inclusive(|byte| *byte == b'\n').filter_map(judged_of_line);
    let bytes: usize = lines().map(<[u8]>::len).sum();
    lines().step_by(bytes.div_ceil(JUDGED_BYTES).max(1)).collect::<Vec<_>>().concat().into()
}

/// What is judged of a line: from shortly before its first letter beyond ASCII on. `None` where it has none.
fn judged_of_line(line: &[u8]) -> Option<&[u8]> {
    // No byte below this one is a part of a letter of several, in encodings of two bytes.
    let is_between = |byte: &u8| *byte < 0x30;
    let foreign = line.iter().position(|byte| !byte.is_ascii())?;
    let line = &line[foreign.saturating_sub(LETTERS_BEFORE)..];
    let end = match line.get(..LINE_BYTES) {
        Some(first) => first.iter().rposition(is_between).map_or(0, |at| at + 1),
        None => line.len(),
    };
    Some(&line[..end])
}

/// The share of the letters beyond ASCII which an encoding makes of some bytes that stand like letters in words. `None`
/// where some bytes are not valid in it.
fn score(charset: Charset, bytes: &[u8]) -> Option<f64> {
    let letters: Vec<char> = charset.decode(bytes)?.chars().collect();
    let (mut all, mut good) = (0usize, 0usize);
    for (at, letter) in letters.iter().enumerate().filter(|(_, letter)| !letter.is_ascii()) {
        all += 1;
        good += usize::from(is_at_home(*letter, &letters[..at], &letters[at + 1..]));
    }
    Some(good as f64 / all.max(1) as f64)
}

/// Whether a letter or sign beyond ASCII stands where such ones do.
fn is_at_home(letter: char, above: &[char], below: &[char]) -> bool {
    let (before, after) = (above.last().copied(), below.first().copied());
    let is_letter = |letter: Option<char>| letter.is_some_and(char::is_alphabetic);
    let is_digit = |letter: Option<char>| letter.is_some_and(|letter| letter.is_ascii_digit());
    // Boxes, letters of nobody, and the sign for any currency, which nobody writes.
    if letter.is_control()
        || matches!(letter, '¤' | '\u{2500}'..='\u{259f}' | '\u{e000}'..='\u{f8ff}')
    {
        return false;
    }
    if !letter.is_alphabetic() {
        // A sign stands beside a word, seldom in it; the apostrophe and the middle point do.
        let is_inside = is_letter(before) && is_letter(after);
        return !is_inside || matches!(letter, '’' | '·' | '\u{a0}' | '–' | '—' | '・' | '～');
    }
    // Words have letters of one script.
    let is_ascii = |letter: Option<char>| letter.is_some_and(|l| l.is_ascii_alphabetic());
    let is_latin = matches!(letter, 'ª' | 'º' | 'À'..='ɏ' | 'Ḁ'..='ỿ');
    if !is_latin && (is_ascii(before) || is_ascii(after)) {
        return false;
    }
    // Letters with marks stand among those without, and few of them are words by themselves.
    let is_lone = !is_letter(before) && !is_letter(after);
    if is_latin && is_lone {
        return "àáâäåéèêíîóôöøúûüæýÀÁÅÄÉÈÖØÜÆ".contains(letter) && !is_digit(before);
    }
    let is_part = |letter: &&char| letter.is_alphabetic();
    let word = above.iter().rev().take_while(is_part).chain(below.iter().take_while(is_part));
    // Only Turkish makes words of nothing else.
    if is_latin
        && word.clone().all(|letter| !letter.is_ascii())
        && !word.chain([&letter]).all(|letter| "ışğüöçİŞĞÜÖÇ".contains(*letter))
    {
        return false;
    }
    // A capital in the middle of small letters is another letter read wrongly.
    let is_small = |letter: Option<char>| letter.is_some_and(char::is_lowercase);
    !(letter.is_uppercase() && is_small(before))
}

/// The first distinct words with letters beyond ASCII.
fn words(text: &str) -> Vec<String> {
    let mut words: Vec<String> = Vec::new();
    for word in text.split(|letter: char| !letter.is_alphanumeric()) {
        if !word.is_ascii() && !words.iter().any(|w| w == word) {
            words.push(word.chars().take(24).collect());
            if words.len() == SHOWN {
                break;
            }
        }
    }
    words
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(bytes: &[u8]) -> Option<(String, Vec<String>)> {
        guess(bytes).map(|guess| (guess.charset.label(), guess.words))
    }

    fn encoded(label: &str, text: &str) -> Vec<u8> {
        let encoding = encoding_rs::Encoding::for_label(label.as_bytes()).unwrap();
        let (bytes, _, replaced) = encoding.encode(text);
        assert!(!replaced, "{label} has no {text}");
        bytes.into_owned()
    }

    #[test]
    fn encodings_are_judged_by_the_words_they_make() {
        for (label, text, word) in [
            ("windows-1252", "id;port\n1;Tårnvik\n2;Skerrøy\n3;Hölmsund\n", "Tårnvik"),
            ("windows-1252", "id,note\n1,caf\u{e9} \u{201c}Holm\u{201d}\n", "café"),
            ("windows-1250", "id;port\n1;Zátoka\n2;Řežice\n3;Šťáhlav\n4;Kůň\n", "Zátoka"),
            ("windows-1251", "id;порт\n1;Причал северный\n2;Остров дальний\n", "порт"),
            ("windows-1250", "id;port\n1;Příští přístav\n2;Řežice\n3;Šťáhlav\n", "Příští"),
            ("windows-1254", "id;ad\n1;İskele Güneş ışığı\n2;Şehir ışığı\n", "İskele"),
            ("koi8-u", "id;порт\n1;Причал северный\n2;Остров дальний\n", "порт"),
            ("shift_jis", "id,港\n1,北の島\n2,スケル港\n3,ひがし\n", "港"),
            ("euc-kr", "id,항구\n1,북쪽 섬\n2,등대\n", "항구"),
            ("gbk", "id,港口\n1,北方的岛屿\n2,灯塔和码头\n", "港口"),
        ] {
            let found = of(&encoded(label, text)).unwrap_or_else(|| panic!("{label}: nothing"));
            assert_eq!((&found.0[..], &found.1[0][..]), (label, word), "{text}");
        }
    }

    #[test]
    fn code_pages_of_old_are_found_where_the_usual_ones_make_no_words() {
        // Hafenmeister Jürgen, Köln, Süd in code page 850.
        let bytes = b"id;name\n1;J\x81rgen\n2;K\x94ln\n3;S\x81d\n4;Gr\x81\xe1e\n";
        let found = of(bytes).unwrap();
        assert_eq!((&found.0[..], &found.1[0][..]), ("cp850", "Jürgen"));
    }

    #[test]
    fn utf_8_with_a_wrong_byte_stays_utf_8() {
        assert_eq!(of("Tårnvik,Skerrøy,Hölm\n".as_bytes()), None);
        let mut bytes = "Tårnvik,Skerrøy,Hölm,Süd\n".as_bytes().to_vec();
        bytes.extend_from_slice(b"T\xe5rnvik\n");
        assert_eq!(of(&bytes), None);
    }

    #[test]
    fn long_texts_are_judged_by_some_of_their_lines_and_valid_in_all() {
        let line = |at: u64| format!("{at};Stellplatz;Tårnvik {at}\n");
        let text: String = (0..20_000).map(line).collect();
        let bytes = encoded("windows-1252", &text);
        assert!(judged(&bytes).len() < 2 * JUDGED_BYTES);
        let (few, many) = (guess(&encoded("windows-1252", &text[..400])), guess(&bytes));
        assert_eq!(many, few, "more of the same changes nothing");
        // One line, in which the first of them comes late.
        let late =
            [b"x, ".repeat(100_000), encoded("windows-1252", &text.replace('\n', ","))].concat();
        assert_eq!(of(&late).unwrap().0, "windows-1252");
        // A byte that is nothing there, in the second line, which is not looked at.
        let text: String = (0..20_000).map(|at| format!("Λιμάνι του Πειραιά {at}\n")).collect();
        let mut bytes = encoded("windows-1253", &text);
        assert_eq!(of(&bytes).unwrap().0, "windows-1253");
        let second = bytes.iter().position(|byte| *byte == b'\n').unwrap() + 1;
        bytes[second] = 0xd2;
        assert_ne!(of(&bytes).map(|(label, _)| label).as_deref(), Some("windows-1253"));
    }

    #[test]
    fn others_are_named_where_they_make_other_words() {
        let guess = guess(&encoded("windows-1252", "port\nTårnvik\nSkerrøy\nSk\u{e4}r\n")).unwrap();
        assert!(!guess.others.is_empty() && !guess.others.contains(&guess.charset), "{guess:?}");
        assert!(
            guess.why().starts_with("likely: not UTF-8, and it reads 'Tårnvik'"),
            "{}",
            guess.why()
        );
        assert!(guess.labels()[0] == "windows-1252" && guess.labels().len() > 1);
    }
}
