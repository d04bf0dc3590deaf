//! Categories whose values are known to have an order: a ladder is proposed, and never taken for
//! granted, since only a person knows what the words mean.

/// Ladders from the lowest rung to the highest. A rung has one or more words; no word stands on two
/// rungs of one ladder. Words are compared without letter case, hyphens and underscores as spaces.
const LADDERS: [&[&[&str]]; 22] = [
    &[
        &["none"],
        &["very low", "lowest", "minimal"],
        &["low", "l"],
        &["medium", "moderate", "middle", "mid", "normal", "m"],
        &["high", "h"],
        &["very high", "highest"],
        &["critical", "urgent", "extreme"],
    ],
    &[
        &["xxxs", "3xs"],
        &["xxs", "2xs"],
        &["xs", "extra small"],
        &["s", "small"],
        &["m", "medium"],
        &["l", "large"],
        &["xl", "extra large"],
        &["xxl", "2xl"],
        &["xxxl", "3xl"],
        &["xxxxl", "4xl"],
    ],
    &[&["tiny"], &["small"], &["medium"], &["large", "big"], &["huge"]],
    &[
        &["terrible", "very poor"],
        &["poor", "bad"],
        &["fair", "average"],
        &["good"],
        &["very good"],
        &["excellent"],
    ],
    &[
        &["strongly disagree"],
        &["disagree"],
        &["neutral", "neither"],
        &["agree"],
        &["strongly agree"],
    ],
    &[
        &["very unsatisfied", "very dissatisfied"],
        &["unsatisfied", "dissatisfied"],
        &["neutral"],
        &["satisfied"],
        &["very satisfied"],
    ],
    &[
        &["never"],
        &["rarely", "seldom"],
        &["sometimes", "occasionally"],
        &["often"],
        &["usually"],
        &["always"],
    ],
    &[
        &["very unlikely"],
        &["unlikely"],
        &["possible"],
        &["likely"],
        &["very likely"],
        &["certain"],
    ],
    &[&["trivial"], &["minor"], &["moderate"], &["major"], &["critical", "severe"], &["blocker"]],
    &[&["mild"], &["moderate"], &["severe"], &["critical"]],
    &[
        &["trace"],
        &["debug"],
        &["info", "information"],
        &["notice"],
        &["warn", "warning"],
        &["error"],
        &["critical", "fatal"],
    ],
    &[&["green"], &["yellow", "amber"], &["orange"], &["red"]],
    &[&["bronze"], &["silver"], &["gold"], &["platinum"], &["diamond"]],
    &[&["beginner", "novice"], &["intermediate"], &["advanced"], &["expert"]],
    &[&["junior"], &["mid", "regular"], &["senior"], &["lead"], &["principal"]],
    &[&["primary"], &["secondary"], &["tertiary"]],
    &[&["first"], &["second"], &["third"], &["fourth"], &["fifth"]],
    &[&["1st"], &["2nd"], &["3rd"], &["4th"], &["5th"]],
    &[&["cold", "freezing"], &["cool"], &["mild"], &["warm"], &["hot"]],
    &[&["q1"], &["q2"], &["q3"], &["q4"]],
    &[
        &["monday", "mon", "mo"],
        &["tuesday", "tue", "tu"],
        &["wednesday", "wed", "we"],
        &["thursday", "thu", "th"],
        &["friday", "fri", "fr"],
        &["saturday", "sat", "sa"],
        &["sunday", "sun", "su"],
    ],
    &[
        &["january", "jan"],
        &["february", "feb"],
        &["march", "mar"],
        &["april", "apr"],
        &["may"],
        &["june", "jun"],
        &["july", "jul"],
        &["august", "aug"],
        &["september", "sep", "sept"],
        &["october", "oct"],
        &["november", "nov"],
        &["december", "dec"],
    ],
];

/// The values of a category in the order of the ladder that all of them are rungs of, where there is one
/// and it has a rung for each. Two values are a ladder only if they are words, not letters.
pub(super) fn ladder(values: &[String]) -> Option<Vec<String>> {
    let fewest = if values.iter().any(|value| value.chars().count() < 3) { 3 } else { 2 };
    if values.len() < fewest {
        return None;
    }
    LADDERS.iter().find_map(|rungs| {
        let place = |value: &String| {
            let word = value.trim().to_lowercase().replace(['-', '_'], " ");
            rungs.iter().position(|rung| rung.contains(&word.as_str()))
        };
        let mut ranked: Vec<(usize, &String)> =
            values.iter().map(|value| Some((place(value)?, value))).collect::<Option<_>>()?;
        ranked.sort();
        let one_each = ranked.windows(2).all(|pair| pair[0].0 != pair[1].0);
        one_each.then(|| ranked.into_iter().map(|(_, value)| value.clone()).collect())
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(values: &[&str]) -> Option<Vec<String>> {
        ladder(&values.iter().map(|value| (*value).to_owned()).collect::<Vec<_>>())
    }

    #[test]
    fn words_of_a_ladder_are_ranked() {
        for (values, want) in [
            (&["high", "low", "medium"][..], Some("low medium high")),
            (&["L", "M", "S", "XL"], Some("S M L XL")),
            (&["High", "LOW"], Some("LOW High")),
            (&["Very_Good", "fair", "poor"], Some("poor fair Very_Good")),
            (
                &["Fri", "Mon", "Sat", "Sun", "Thu", "Tue", "Wed"],
                Some("Mon Tue Wed Thu Fri Sat Sun"),
            ),
            (&["error", "info", "warn"], Some("info warn error")),
            (&["M", "S"], None),
            (&["cabin", "deck", "saloon"], None),
            (&["low", "medium", "moderate"], None),
            (&["low", "purple"], None),
            (&["low"], None),
        ] {
            let want = want.map(|words| words.split(' ').map(str::to_owned).collect::<Vec<_>>());
            assert_eq!(of(values), want, "{values:?}");
        }
    }

    #[test]
    fn no_word_stands_on_two_rungs() {
        for rungs in LADDERS {
            let mut words: Vec<_> = rungs.iter().flat_map(|rung| rung.iter()).collect();
            let all = words.len();
            words.sort();
            words.dedup();
            assert_eq!(words.len(), all, "{rungs:?}");
        }
    }
}
