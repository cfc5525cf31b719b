package app

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// A Schedule is when a scheduler of the operating system is to call a run.
type Schedule struct {
	Days []string // as in Mon; none: every day
	Hour int
	Min  int
}

var weekdays = []string{"Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"}

var scheduled = regexp.MustCompile(`^(?:([A-Za-z,]+) +)?([01]?[0-9]|2[0-3]):([0-5][0-9])$`)

// ParseSchedule reads weekly, daily, 06:00, Mon 06:00 or Mon,Thu 06:00.
func ParseSchedule(text string) (Schedule, error) {
	switch strings.ToLower(strings.TrimSpace(text)) {
	case "weekly":
		return Schedule{Days: []string{"Mon"}, Hour: 6}, nil
	case "daily":
		return Schedule{Hour: 6}, nil
	}
	found := scheduled.FindStringSubmatch(strings.TrimSpace(text))
	if found == nil {
		return Schedule{}, mistake(fmt.Sprintf("--schedule: “%s” is no time", text), "Write weekly, daily, 06:00, “Mon 06:00” or “Mon,Thu 06:00”.")
	}
	s := Schedule{}
	_, _ = fmt.Sscan(strings.TrimLeft(found[2], "0"), &s.Hour)
	_, _ = fmt.Sscan(strings.TrimLeft(found[3], "0"), &s.Min)
	for day := range strings.SplitSeq(found[1], ",") {
		if day == "" {
			continue
		}
		i := slices.IndexFunc(weekdays, func(known string) bool { return len(day) >= 3 && strings.EqualFold(known, day[:3]) })
		if i < 0 {
			return Schedule{}, mistake(fmt.Sprintf("--schedule: “%s” is no day of the week", day), "Write Mon, Tue, Wed, Thu, Fri, Sat or Sun.")
		}
		s.Days = append(s.Days, weekdays[i])
	}
	return s, nil
}

// Calendar writes it for a systemd timer (systemd.time).
func (s Schedule) Calendar() string {
	days := strings.Join(s.Days, ",")
	if days != "" {
		days += " "
	}
	return fmt.Sprintf("%s*-*-* %02d:%02d:00", days, s.Hour, s.Min)
}

// Cron writes it as the first five fields of a line of cron's.
func (s Schedule) Cron() string {
	days := []string{}
	for _, day := range s.Days {
		days = append(days, fmt.Sprint(slices.Index(weekdays, day)))
	}
	if len(days) == 0 {
		days = []string{"*"}
	}
	return fmt.Sprintf("%d %d * * %s", s.Min, s.Hour, strings.Join(days, ","))
}
