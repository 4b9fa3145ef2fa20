package demo

import (
	"fmt"

	"kestite/core/calendar"
	"kestite/core/definition"
)

func hours(days []string, from, to string) *definition.HoursSpec {
	return &definition.HoursSpec{WeeklyPlan: definition.WeeklyPlan{Timezone: Zone, Weekly: []definition.WeeklyRow{{Days: days, From: from,
		To: to}}, Holidays: []string{}}}
}

// publicHolidays is the list of days on which the offices are closed.
const publicHolidays = "public-holidays"

func withoutHolidays(h *definition.HoursSpec) *definition.HoursSpec {
	h.HolidayLists = []string{publicHolidays}
	return h
}

// holidaysFrom are the days of the list from a year on, for four.
func holidaysFrom(year int) definition.HolidayListSpec {
	out := definition.HolidayListSpec{Name: "Public holidays", Note: "Offices closed; ships sail"}
	for n := range 4 {
		for _, d := range [][2]string{{"01-01", "New Year's Day"}, {"05-01", "Labour Day"}, {"05-17", "Constitution Day"},
			{"12-25", "Christmas Day"}, {"12-26", "Second Day of Christmas"}} {
			out.Days = append(out.Days, definition.Holiday{Date: fmt.Sprintf("%d-%s", year+n, d[0]), Name: d[1]})
		}
	}
	return out
}

var (
	everyDay = []string{"MO", "TU", "WE", "TH", "FR", "SA", "SU"}
	weekdays = everyDay[:5]
)

func whole(n int64) *int64 { return &n }

func exclude(noticeH, capH int64) *definition.MaintenanceSpec {
	seconds := capH * 3600
	return &definition.MaintenanceSpec{Mode: definition.MaintenanceExclude, NoticeS: noticeH * 3600, CapS: &seconds}
}

// teams own the services, and customers were promised something, by id.
var (
	teams = map[string]string{
		"payments": "Payments", "harbour-it": "Harbour IT", "terminal-operations": "Terminal operations",
		"passenger-division": "Passenger division", "freight-desk": "Freight desk", "crewing": "Crewing",
	}
	customers = map[string]string{"port-authority": "Port authority", "passenger-division": "Passenger division", "freight-desk": "Freight desk"}
)

// promise is an agreement with how its present month goes: the share of the
// allowance that downtime uses up, and how much of that in the last days.
type promise struct {
	id     string
	spec   definition.AgreementSpec
	used   float64
	recent float64
}

func fee(amount string) *definition.Fee { return &definition.Fee{Amount: amount, Currency: "NOK"} }

var contracts = map[string]definition.ContractSpec{
	"card-acquiring": {Name: "Card acquiring", Layout: "own-house"},
	"port-authority-quays": {Name: "Quays of the port authority", Customer: "port-authority",
		Credits: &definition.CreditTerms{PeriodPercent: "10", YearAmount: "60000.00", Currency: "NOK", ClaimDays: 60}},
}

func customerOf(id, name string) definition.CustomerSpec {
	out := definition.CustomerSpec{Name: name, ReportApproval: id == "freight-desk", ObjectionDays: 60, Layout: "customers"}
	if id == "port-authority" {
		out.Contacts = []definition.PersonOf{{Name: "Solveig Naust", Role: "quay operations", Mail: "solveig.naust@port.skerry.example"}, {Name: "Accounts of the port", Role: "billing", Mail: "accounts@port.skerry.example", Phone: "+47 55 000 117"}}
		out.Tell = []definition.Recipient{{Contact: "quay-office"}}
		out.Schedule = &definition.ReportSchedule{WorkingDay: 3, At: "08:00", Timezone: Zone}
	}
	return out
}

var promises = []promise{
	{"gates-port-authority", definition.AgreementSpec{Name: "Boarding gates", Customer: "port-authority", Contract: "port-authority-quays", Fee: fee("48000.00"), Service: "boarding-gates", TargetPercent: "99.95", Maintenance: exclude(48, 4), MinCoveragePercent: "95",
		Credits: []definition.Credit{{BelowPercent: "99.95", CreditPercent: "5"}, {BelowPercent: "99.5", CreditPercent: "15"}}}, 1.5, 0.5},
	{"tickets-passenger", definition.AgreementSpec{Name: "Ticket sales", Customer: "passenger-division", Fee: fee("62500.00"),
		Credits: []definition.Credit{{BelowPercent: "99.9", CreditPercent: "5"}, {BelowPercent: "99", CreditPercent: "10"}}, Service: "ticket-sales", TargetPercent: "99.9", DegradedWeightPercent: "25", Maintenance: exclude(24, 3), Upstream: &definition.Upstream{Excuse: []string{"card-acquirer"}, LeadS: 60, LingerS: 300},
		Objectives: &definition.Objectives{OutagesAtMost: whole(4), LongestOutageS: whole(30 * 60), MTTRS: whole(15 * 60)}}, 0.56, 0.6},
	{"freight-desk", definition.AgreementSpec{Name: "Freight booking", Customer: "freight-desk", Service: "freight-booking", TargetPercent: "99.5", ServiceHours: hours(everyDay, "05:00", "23:00"), DegradedWeightPercent: "50", Maintenance: exclude(24, 6)}, 0.3, 0.05},
	{"sailing-board", definition.AgreementSpec{Name: "Sailing board", Customer: "passenger-division", Service: "sailing-board", TargetPercent: "99.9"}, 0.12, 0},
	{"departure", definition.AgreementSpec{Name: "Departure check-in", Customer: "port-authority", Contract: "port-authority-quays", Fee: fee("31000.00"),
		Credits: []definition.Credit{{BelowPercent: "99.5", CreditPercent: "10"}}, Service: "departure", TargetPercent: "99.5"}, 0, 0},
	{"crew-roster", definition.AgreementSpec{Name: "Crew roster", Service: "crew-roster", TargetPercent: "99",
		Period: &definition.Cycle{Unit: calendar.Quarter}, ServiceHours: withoutHolidays(hours(weekdays, "06:00", "20:00")),
		Maintenance: exclude(24, 8)}, 0.04, 0},
	{"messages", definition.AgreementSpec{Name: "Customer messages", Service: "customer-messages", TargetPercent: "99", MinOutageS: 120}, 0.03, 0.01},
	{"card-acquirer", definition.AgreementSpec{Name: "Card acquirer", Contract: "card-acquiring", Service: "card-acquirer", TargetPercent: "99.9", Fee: fee("18750.00"), Credits: []definition.Credit{{BelowPercent: "99.9", CreditPercent: "10"}}, Unmeasured: definition.UnmeasuredExclude}, 0.5, 0},
}
