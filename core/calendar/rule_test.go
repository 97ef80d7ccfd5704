package calendar

import (
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func on(t require.TestingT, text string) time.Time {
	at, err := time.Parse(time.RFC3339, text)
	require.NoError(t, err)
	return at
}

// comes are the next times of a rule, as they are on the wall there.
func comes(t *testing.T, rule, zone, after string, most int) (times []string) {
	t.Helper()
	r, err := Parse(rule, zone, on(t, after))
	require.NoError(t, err, rule)
	for _, at := range r.Next(on(t, after), most) {
		times = append(times, at.In(r.place).Format("2006-01-02T15:04Z07:00"))
	}
	return times
}

func TestARuleKeepsToTheTimeOnTheWall(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		rule, zone, after string
		want              []string
	}{
		// Clocks go from 02:00 to 03:00: half past two is taken by the offset before.
		{"FREQ=DAILY;BYHOUR=2;BYMINUTE=30", "Europe/Paris", "2026-03-27T12:00:00Z", []string{
			"2026-03-28T02:30+01:00", "2026-03-29T03:30+02:00", "2026-03-30T02:30+02:00",
		}},
		// Clocks go from 03:00 to 02:00: half past two comes twice, and the first one counts.
		{"FREQ=DAILY;BYHOUR=2;BYMINUTE=30", "Europe/Paris", "2026-10-23T12:00:00Z", []string{
			"2026-10-24T02:30+02:00", "2026-10-25T02:30+02:00", "2026-10-26T02:30+01:00",
		}},
		{"FREQ=DAILY;BYHOUR=2;BYMINUTE=30", "America/New_York", "2026-03-06T12:00:00Z", []string{
			"2026-03-07T02:30-05:00", "2026-03-08T03:30-04:00", "2026-03-09T02:30-04:00",
		}},
		{"FREQ=DAILY;BYHOUR=1;BYMINUTE=30", "America/New_York", "2026-10-30T12:00:00Z", []string{
			"2026-10-31T01:30-04:00", "2026-11-01T01:30-04:00", "2026-11-02T01:30-05:00",
		}},
		// Where clocks change by half an hour, at two.
		{"FREQ=DAILY;BYHOUR=2;BYMINUTE=15", "Australia/Lord_Howe", "2026-10-02T12:00:00Z", []string{
			"2026-10-03T02:15+10:30", "2026-10-04T02:45+11:00", "2026-10-05T02:15+11:00",
		}},
		{"FREQ=DAILY;BYHOUR=1;BYMINUTE=45", "Australia/Lord_Howe", "2026-04-03T03:00:00Z", []string{
			"2026-04-04T01:45+11:00", "2026-04-05T01:45+11:00", "2026-04-06T01:45+10:30",
		}},
		// Midnight itself is put forward here.
		{"FREQ=DAILY;BYHOUR=0;BYMINUTE=0", "America/Santiago", "2026-09-04T12:00:00Z", []string{
			"2026-09-05T00:00-04:00", "2026-09-06T01:00-03:00", "2026-09-07T00:00-03:00",
		}},
		{"FREQ=DAILY;BYHOUR=0;BYMINUTE=0", "Europe/Paris", "2026-10-24T12:00:00Z", []string{
			"2026-10-25T00:00+02:00", "2026-10-26T00:00+01:00",
		}},
		{"FREQ=MONTHLY;BYMONTHDAY=31;BYHOUR=4;BYMINUTE=0", "Europe/Paris", "2026-02-01T00:00:00Z", []string{
			"2026-03-31T04:00+02:00", "2026-05-31T04:00+02:00", "2026-07-31T04:00+02:00", "2026-08-31T04:00+02:00",
		}},
		{"FREQ=MONTHLY;BYDAY=5FR;BYHOUR=4;BYMINUTE=0", "UTC", "2026-02-01T00:00:00Z", []string{
			"2026-05-29T04:00Z", "2026-07-31T04:00Z", "2026-10-30T04:00Z",
		}},
		{"RRULE:FREQ=MONTHLY;BYDAY=1MO;BYHOUR=2,14;BYMINUTE=30", "UTC", "2026-11-20T00:00:00Z", []string{
			"2026-12-07T02:30Z", "2026-12-07T14:30Z", "2027-01-04T02:30Z",
		}},
		{"FREQ=DAILY;BYHOUR=2;BYMINUTE=0;UNTIL=20261122T235959Z", "UTC", "2026-11-20T12:00:00Z", []string{
			"2026-11-21T02:00Z", "2026-11-22T02:00Z",
		}},
		{"FREQ=DAILY;BYHOUR=2;BYMINUTE=0;COUNT=2", "UTC", "2026-11-20T12:00:00Z", []string{
			"2026-11-21T02:00Z", "2026-11-22T02:00Z",
		}},
		{"FREQ=DAILY;BYHOUR=2;BYMINUTE=0;UNTIL=20261122T020000", "Europe/Paris", "2026-11-20T12:00:00Z", []string{
			"2026-11-21T02:00+01:00", "2026-11-22T02:00+01:00",
		}},
		{"FREQ=DAILY;BYHOUR=23;BYMINUTE=0;UNTIL=20261122", "America/New_York", "2026-11-20T12:00:00Z", []string{
			"2026-11-20T23:00-05:00", "2026-11-21T23:00-05:00", "2026-11-22T23:00-05:00",
		}},
		{"FREQ=DAILY;BYHOUR=2;BYMINUTE=0;UNTIL=20261122T010000Z", "Europe/Paris", "2026-11-20T12:00:00Z", []string{
			"2026-11-21T02:00+01:00", "2026-11-22T02:00+01:00",
		}},
		{"FREQ=MONTHLY;BYDAY=TU,4MO;BYHOUR=2;BYMINUTE=0", "UTC", "2026-11-20T12:00:00Z", []string{
			"2026-11-23T02:00Z", "2026-11-24T02:00Z", "2026-12-01T02:00Z",
		}},
		{"FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29;BYDAY=MO;BYHOUR=2;BYMINUTE=0", "UTC", "2026-11-20T12:00:00Z", []string{
			"2044-02-29T02:00Z", "2072-02-29T02:00Z",
		}},
		{"FREQ=YEARLY;BYWEEKNO=20;BYHOUR=2;BYMINUTE=0", "UTC", "2026-11-20T12:00:00Z", []string{ // a Friday
			"2027-05-21T02:00Z", "2028-05-19T02:00Z",
		}},
		{"FREQ=YEARLY;INTERVAL=20;BYHOUR=2;BYMINUTE=0", "UTC", "2026-11-20T12:00:00Z", []string{"2046-11-20T02:00Z"}},
		{"FREQ=WEEKLY", "UTC", "2026-11-20T12:34:56Z", []string{"2026-11-27T12:34Z", "2026-12-04T12:34Z"}},
	} {
		most := len(c.want)
		if strings.Contains(c.rule, "UNTIL") || strings.Contains(c.rule, "COUNT") {
			most = 9
		}
		require.Equal(t, c.want, comes(t, c.rule, c.zone, c.after, most), "%s %s", c.rule, c.zone)
	}
}

func TestARuleThatCannotBeKeptSaysWhy(t *testing.T) {
	t.Parallel()
	for rule, why := range map[string]string{
		"":                                    "is no recurrence rule",
		"every monday":                        "is no recurrence rule",
		"FREQ=HOURLY":                         "comes at most daily",
		"FREQ=SECONDLY;BYMONTH=2":             "comes at most daily",
		"FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30": "does not come within 400 years",
		"FREQ=DAILY;UNTIL=20200101T000000Z":   "does not come within 400 years",
		"FREQ=DAILY;BYSECOND=30":              "comes on the minute",
		"FREQ=DAILY;INTERVAL=0":               "INTERVAL=0: use a number from 1 to 1000",
		"FREQ=DAILY;COUNT=0":                  "COUNT=0: use a number from 1",
		"FREQ=DAILY;BYHOUR=25":                "BYHOUR=25: use numbers from 0 to 23",
		"FREQ=DAILY;BYHOUR=1;BYHOUR=2":        "BYHOUR is there twice",
		"FREQ=DAILY;COUNT=2;UNTIL=20271231":   "COUNT and UNTIL do not go together",
		"FREQ=DAILY;UNTIL=20270231":           "UNTIL=20270231 is not in the calendar",
		"FREQ=DAILY;UNTIL=tomorrow":           "UNTIL=TOMORROW: use a date such as 20271231",
		"FREQ=WEEKLY;BYDAY=1MO":               "goes with FREQ=MONTHLY and YEARLY only",
		"FREQ=WEEKLY;BYMONTHDAY=1":            "BYMONTHDAY does not go with FREQ=WEEKLY",
		"FREQ=MONTHLY;BYWEEKNO=1":             "BYWEEKNO does not go with FREQ=MONTHLY",
		"FREQ=MONTHLY;BYDAY=0MO":              "BYDAY=0MO: use weekdays",
		"FREQ=MONTHLY;BYSETPOS=1":             "BYSETPOS chooses from",
		"FREQ=YEARLY;BYEASTER=0":              "there is no part BYEASTER",
		"FREQ=DAILY;DTSTART=20270101":         "there is no part DTSTART",
		"BYHOUR=1":                            "FREQ is missing",
		"FREQ=DAILY;BYHOUR=1,2,3;BYMINUTE=0,5,10,15,20,25,30,35,40": "at most 24 times a day",
		"FREQ=DAILY\nFREQ=WEEKLY":                                   "one line",
	} {
		_, err := Parse(rule, "UTC", on(t, "2026-11-20T12:00:00Z"))
		require.ErrorContains(t, err, why, rule)
	}
	for zone, why := range map[string]string{
		"": "is missing", "Local": "is missing", "Mars/Olympus": "there is no time zone",
	} {
		_, err := Parse("FREQ=DAILY", zone, on(t, "2026-11-20T12:00:00Z"))
		require.ErrorContains(t, err, why)
	}
}

func TestTimesComeOneAfterTheOtherWhereverOneBegins(t *testing.T) {
	t.Parallel()
	zones := []string{
		"Europe/Paris", "America/New_York", "Australia/Lord_Howe", "America/Santiago", "Asia/Kolkata", "UTC",
	}
	rapid.Check(t, func(t *rapid.T) {
		r, err := Parse(rapid.SampledFrom([]string{
			"FREQ=DAILY;BYHOUR=0,2;BYMINUTE=0,30", "FREQ=WEEKLY;BYDAY=SU;BYHOUR=2;BYMINUTE=30",
			"FREQ=MONTHLY;BYDAY=-1SU",
			"FREQ=DAILY;INTERVAL=3;BYHOUR=1;BYMINUTE=45",
		}).Draw(t, "rule"), rapid.SampledFrom(zones).Draw(t, "zone"), on(t, "2026-01-01T00:00:00Z"))
		require.NoError(t, err)
		minutes := rapid.Int64Range(0, 3*365*24*60).Draw(t, "minutes")
		after := on(t, "2026-01-01T00:00:00Z").Add(time.Duration(minutes) * time.Minute)
		times := r.Next(after, 6)
		require.Len(t, times, 6)
		for i, at := range times {
			require.True(t, at.After(after))
			require.Equal(t, times[i:][0], r.Next(at.Add(-time.Nanosecond), 1)[0], "it comes whenever one asks")
			after = at
		}
	})
}

func FuzzParse(f *testing.F) {
	for _, rule := range []string{
		"FREQ=MONTHLY;BYDAY=1MO;BYHOUR=2;BYMINUTE=30", "FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO", "FREQ=DAILY;INTERVAL=0",
		"FREQ=WEEKLY;WKST=SU;BYSETPOS=-1;BYDAY=MO,TU", "FREQ=YEARLY;BYEASTER=0", "FREQ=DAILY;COUNT=99999999",
		"FREQ=DAILY;UNTIL=20261122", "FREQ=MONTHLY;BYMONTHDAY=-31;BYYEARDAY=366",
	} {
		f.Add(rule, "Europe/Paris")
	}
	f.Fuzz(func(t *testing.T, rule, zone string) {
		after := on(t, "2026-11-20T12:00:00Z")
		var r Rule
		var err error
		ended := make(chan struct{})
		go func() {
			r, err = Parse(rule, zone, after)
			close(ended)
		}()
		select {
		case <-ended:
		case <-time.After(20 * time.Second):
			t.Fatalf("%q in %q does not come to an end", rule, zone)
		}
		if err != nil {
			return
		}
		for _, at := range r.Next(after, 5) {
			require.True(t, at.After(after))
		}
	})
}
