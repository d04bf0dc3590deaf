// Reads pairs of a pattern and a value from standard input, with what Typhos made of them, and holds that
// against the date formatter of this language's standard library: both take or refuse the value, and both
// mean the same instant. Prints what differs, and how many pairs there were.

import java.io.BufferedReader;
import java.io.InputStreamReader;
import java.nio.charset.StandardCharsets;
import java.time.DateTimeException;
import java.time.LocalDate;
import java.time.LocalDateTime;
import java.time.ZoneId;
import java.time.ZoneOffset;
import java.time.format.DateTimeFormatter;
import java.time.format.DateTimeFormatterBuilder;
import java.time.format.ResolverStyle;
import java.time.temporal.ChronoField;
import java.time.temporal.IsoFields;
import java.time.temporal.TemporalAccessor;
import java.time.temporal.TemporalQueries;
import java.util.HashMap;
import java.util.List;
import java.util.Locale;
import java.util.Map;

public final class Dates {
    /** A pattern that says years as this library wants them said: without an era. */
    static String years(String pattern) {
        StringBuilder text = new StringBuilder();
        boolean quoted = false;
        for (char letter : pattern.toCharArray()) {
            quoted ^= letter == '\'';
            text.append(letter == 'y' && !quoted ? 'u' : letter);
        }
        return text.toString();
    }

    static int field(TemporalAccessor parsed, ChronoField field, int otherwise) {
        return parsed.isSupported(field) ? parsed.get(field) : otherwise;
    }

    static String read(DateTimeFormatter formatter, String pattern, String value) {
        try {
            TemporalAccessor parsed = formatter.parse(value);
            LocalDate date = parsed.query(TemporalQueries.localDate());
            if (date == null && pattern.contains("Q")) {
                int quarter = (int) parsed.getLong(IsoFields.QUARTER_OF_YEAR);
                date = LocalDate.of(parsed.get(ChronoField.YEAR), quarter * 3 - 2, 1);
            }
            if (date == null || date.getYear() < 1 || date.getYear() > 9999) {
                return "no";
            }
            int week = pattern.replace("'", "").indexOf("ww");
            if (week >= 0) {
                // This library takes a week 53 in a year that has 52 for another week.
                int is = date.get(IsoFields.WEEK_OF_WEEK_BASED_YEAR);
                if (!value.startsWith(String.format("%02d", is), week)) {
                    return "no";
                }
            }
            long nanos = field(parsed, ChronoField.HOUR_OF_DAY, 0) * 3_600_000_000_000L
                + field(parsed, ChronoField.MINUTE_OF_HOUR, 0) * 60_000_000_000L
                + field(parsed, ChronoField.SECOND_OF_MINUTE, 0) * 1_000_000_000L
                + field(parsed, ChronoField.NANO_OF_SECOND, 0);
            String offset = "-";
            if (pattern.contains("VV")) {
                // Times that a zone's clocks skip or show twice are no one instant.
                LocalDateTime local = date.atStartOfDay().plusNanos(nanos);
                ZoneId zone = parsed.query(TemporalQueries.zoneId());
                List<ZoneOffset> offsets = zone.getRules().getValidOffsets(local);
                if (offsets.size() != 1) {
                    return "no";
                }
                offset = Integer.toString(offsets.get(0).getTotalSeconds());
            } else if (parsed.isSupported(ChronoField.OFFSET_SECONDS)) {
                offset = Integer.toString(parsed.get(ChronoField.OFFSET_SECONDS));
            }
            return date.toEpochDay() + " " + nanos + " " + offset;
        } catch (DateTimeException error) {
            return "no";
        }
    }

    public static void main(String[] args) throws Exception {
        Map<String, DateTimeFormatter> known = new HashMap<>();
        BufferedReader input = new BufferedReader(new InputStreamReader(System.in, StandardCharsets.UTF_8));
        long pairs = 0;
        long taken = 0;
        long differ = 0;
        for (String line = input.readLine(); line != null; line = input.readLine()) {
            String[] parts = line.split("\t", -1);
            DateTimeFormatter formatter = known.computeIfAbsent(parts[0] + parts[1], key ->
                new DateTimeFormatterBuilder().parseCaseInsensitive().appendPattern(years(parts[1]))
                    .toFormatter(Locale.forLanguageTag(parts[0])).withResolverStyle(ResolverStyle.STRICT));
            String read = read(formatter, parts[1], parts[2]);
            pairs += 1;
            taken += read.equals("no") ? 0 : 1;
            if (!read.equals(parts[3])) {
                differ += 1;
                if (differ <= 40) {
                    System.out.println("differs: '" + parts[1] + "' '" + parts[2] + "' here " + parts[3] + ", there " + read);
                }
            }
        }
        System.out.println(pairs + " pairs, " + taken + " taken, " + (pairs - taken) + " refused, " + differ + " differ");
        System.exit(differ == 0 ? 0 : 1);
    }
}
