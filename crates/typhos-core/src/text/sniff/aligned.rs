//! Columns that stand beneath each other by spaces, which is no delimited text: told, with what makes delimited text of them.

/// Lines that are looked at.
const LINES: usize = 200;

/// Of these so many in a hundred have to agree.
const AGREE_PERCENT: usize = 95;

/// What to say of a text that no delimiter splits, if its columns are most likely aligned with spaces.
pub(super) fn told(text: &[u8]) -> Option<String> {
    let lines = text.split(|byte| *byte == b'\n').map(<[u8]>::trim_ascii);
    let lines: Vec<&[u8]> = lines.filter(|line| !line.is_empty()).take(LINES).collect();
    if lines.len() < 2 {
        return None;
    }
    // Words that stand apart by one space may be of one column.
    let in_columns = |gap: usize| {
        let mut counts: Vec<usize> = lines.iter().map(|line| fields(line, gap)).collect();
        counts.sort_unstable();
        let usual = counts[counts.len() / 2];
        let agree = counts.iter().filter(|count| **count == usual).count();
        (usual > 1 && agree * 100 >= counts.len() * AGREE_PERCENT).then_some(usual)
    };
    let are_wide = || lines.iter().filter(|line| fields(line, 2) > 1).count() * 2 >= lines.len();
    let (columns, how) = match in_columns(2) {
        Some(columns) => (columns, "sed 's/^ *//' FILE | awk -F '  +' -v OFS='\\t' '{$1=$1}1'"),
        None => (in_columns(1).filter(|_| are_wide())?, "awk -v OFS='\\t' '{$1=$1}1' FILE"),
    };
    Some(format!("most likely {columns} columns aligned with spaces: {how} puts tabs between them"))
}

/// How many fields a line has that stand apart by so many spaces at least.
fn fields(line: &[u8], gap: usize) -> usize {
    let (mut fields, mut spaces) = (1, 0);
    for byte in line {
        if *byte == b' ' {
            spaces += 1;
            continue;
        }
        fields += usize::from(spaces >= gap);
        spaces = 0;
    }
    fields
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_aligned_with_spaces_are_told() {
        let told = |text: &str| told(text.as_bytes()).map(|told| told[..21].to_owned());
        let ports = "  id  port           berths\n   9  Holm quay           3\n  11  Sund                12\n";
        assert_eq!(told(ports).unwrap(), "most likely 3 columns");
        // Where a gap is one space, and others are more.
        assert_eq!(told("1700   5\n1701  11\n1702 160\n").unwrap(), "most likely 2 columns");
        for none in
            ["", "Holm\nSund\n", "Holm quay\nSund quay\n", "a  b\nc\nd\n", "one line  of two\n"]
        {
            assert_eq!(told(none), None, "{none}");
        }
    }
}
