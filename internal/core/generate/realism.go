package generate

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// What a member's name says of its value, where the schema itself says no more
// than that it is a text or a number.

var (
	givenNames = strings.Fields(
		`Ada Bram Cilla Dario Enno Femke Goran Hilde Ivo Jorun Kemal Lotte Mirko Nadja Okke Priya Quirin Runa ` +
			`Sanne Tomas Ulla Vito Wanda Ximo Yara Zoltan José Zoë Åsa Błażej`)
	surnames = strings.Fields(
		`Anker Bolt Brandt Corley Dorn Eikland Falk Garve Holmer Ilves Jarvik Kessel Lundby Marlow Nordin Orlo ` +
			`Pask Quist Rigby Sandmark Thole Ulven Varga Westrup Ødegård O'Dell`)
	towns = strings.Fields(
		`Brackwater Holm Skerry Eastness Graywick Lantern-Quay Mellhaven Northsound Oarsby Pellport Saltmouth Ternholm`)
	streets = []string{"Quay Street", "Harbour Road", "Lighthouse Lane", "Ropewalk", "Customs Row", "Pier Road",
		"Tern Close", "Old Slip"}
	countries = [][2]string{{"DK", "Denmark"}, {"NO", "Norway"}, {"SE", "Sweden"}, {"NL", "Netherlands"},
		{"IE", "Ireland"}, {"PT", "Portugal"}, {"EE", "Estonia"}, {"JP", "Japan"}}
	currencies = strings.Fields("EUR DKK NOK SEK GBP JPY")
	colours    = strings.Fields("amber blue coral green grey navy red teal white")
	statuses   = strings.Fields("open pending confirmed closed cancelled")
	locales    = strings.Fields("en da nb sv nl pt-PT ja ar")
	agents     = strings.Fields("agent/1.4 (terminal) kiosk/2.0 (quay) app/7.3 (phone) fetch/0.9")
)

func (m *maker) pick(of []string) string { return of[m.r.Below(len(of))] }

// known holds strings by what a name ends with, in small letters and without
// anything between its words; the longest ending counts.
var known = map[string]func(*maker) string{
	"firstname": (*maker).given, "givenname": (*maker).given, "forename": (*maker).given,
	"lastname": (*maker).surname, "surname": (*maker).surname, "familyname": (*maker).surname,
	"name": func(m *maker) string { return m.given() + " " + m.surname() }, "customer": (*maker).person,
	"passenger": (*maker).person, "author": (*maker).person, "owner": (*maker).person, "contact": (*maker).person,
	"username": (*maker).user, "login": (*maker).user, "user": (*maker).user, "nickname": (*maker).user,
	"email": formats["email"], "mail": formats["email"],
	"phone": (*maker).phone, "tel": (*maker).phone, "telephone": (*maker).phone, "mobile": (*maker).phone,
	"phonenumber": (*maker).phone, "fax": (*maker).phone,
	"street": (*maker).street, "streetaddress": (*maker).street, "addressline1": (*maker).street,
	"line1":   (*maker).street,
	"address": func(m *maker) string { return m.street() + ", " + m.pick(towns) },
	"city":    (*maker).town, "town": (*maker).town, "port": (*maker).town, "harbour": (*maker).town,
	"origin": (*maker).town, "destination": (*maker).town, "region": (*maker).town,
	"postcode": (*maker).postcode, "postalcode": (*maker).postcode, "zip": (*maker).postcode,
	"zipcode":      (*maker).postcode,
	"country":      func(m *maker) string { return countries[m.r.Below(len(countries))][1] },
	"countrycode":  func(m *maker) string { return countries[m.r.Below(len(countries))][0] },
	"currency":     func(m *maker) string { return m.pick(currencies) },
	"currencycode": func(m *maker) string { return m.pick(currencies) },
	"company":      (*maker).company, "organisation": (*maker).company, "organization": (*maker).company,
	"organisationname": (*maker).company, "companyname": (*maker).company, "vendor": (*maker).company,
	"supplier": (*maker).company,
	"filename": func(m *maker) string {
		return m.word() + "-" + m.digits(3) + m.pick([]string{".csv", ".json", ".pdf", ".jpg"})
	},
	"hostname": (*maker).host, "host": (*maker).host, "domain": (*maker).host,
	"url": formats["uri"], "uri": formats["uri"], "link": formats["uri"], "website": formats["uri"],
	"href": formats["uri"], "endpoint": formats["uri"],
	"ip": formats["ipv4"], "ipaddress": formats["ipv4"],
	"uuid": (*maker).uuid, "guid": (*maker).uuid, "id": (*maker).code, "reference": (*maker).code, "ref": (*maker).code,
	"code": (*maker).code, "sku": (*maker).code, "number": (*maker).code, "key": (*maker).code, "ticket": (*maker).code,
	"booking": (*maker).code,
	"date":    (*maker).date, "birthday": (*maker).date, "dob": (*maker).date, "day": (*maker).date,
	"timestamp": formats["date-time"], "time": formats["date-time"], "datetime": formats["date-time"],
	"createdat": formats["date-time"], "updatedat": formats["date-time"], "at": formats["date-time"],
	"colour":    func(m *maker) string { return m.pick(colours) },
	"color":     func(m *maker) string { return m.pick(colours) },
	"status":    func(m *maker) string { return m.pick(statuses) },
	"state":     func(m *maker) string { return m.pick(statuses) },
	"language":  func(m *maker) string { return m.pick(locales) },
	"locale":    func(m *maker) string { return m.pick(locales) },
	"lang":      func(m *maker) string { return m.pick(locales) },
	"useragent": func(m *maker) string { return m.pick(agents) },
	"title":     (*maker).headline, "subject": (*maker).headline, "headline": (*maker).headline,
	"label":       (*maker).headline,
	"description": (*maker).sentences, "message": (*maker).sentences, "comment": (*maker).sentences,
	"note": (*maker).sentences, "notes": (*maker).sentences, "remarks": (*maker).sentences, "text": (*maker).sentences,
	"summary": (*maker).sentences, "body": (*maker).sentences,
}

func (m *maker) given() string    { return m.pick(givenNames) }
func (m *maker) surname() string  { return m.pick(surnames) }
func (m *maker) person() string   { return m.given() + " " + m.surname() }
func (m *maker) user() string     { return m.word() + "_" + m.digits(2) }
func (m *maker) town() string     { return m.pick(towns) }
func (m *maker) street() string   { return fmt.Sprint(m.between(1, 180), " ", m.pick(streets)) }
func (m *maker) phone() string    { return "+00 555 01" + m.digits(2) + " " + m.digits(2) }
func (m *maker) postcode() string { return "BW" + m.digits(2) + " " + m.digits(1) + m.letters(2) }
func (m *maker) company() string {
	return m.pick(surnames) + " " + m.pick([]string{"& Co", "Freight", "Ferries", "Shipping", "Supplies"})
}
func (m *maker) code() string { return m.letters(2) + "-" + m.digits(5) }

func (m *maker) letters(n int) string {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte('A' + m.r.Below(26))
	}
	return string(b)
}

func (m *maker) headline() string {
	s := m.word()
	for range m.between(1, 4) {
		s += " " + m.word()
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func (m *maker) sentences() string {
	var all []string
	for range m.between(1, 3) {
		s := m.headline()
		for range m.between(2, 7) {
			s += " " + m.word()
		}
		all = append(all, s+".")
	}
	return strings.Join(all, " ")
}

// joined returns a name in small letters, without what stands between its words.
func joined(name string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, name)
}

// named returns what a name says of a text; nil for nothing.
func (g *Generator) named(name string) func(*maker) string {
	if make, ok := g.byName[name]; ok {
		return make
	}
	var make func(*maker) string
	if whole := joined(name); len(name) <= 64 {
		for s := whole; s != "" && make == nil; {
			if make = known[s]; len(s) < len(whole) && !wordEnd(name, utf8.RuneCountInString(s)) {
				make = nil
			}
			_, n := utf8.DecodeRuneInString(s)
			s = s[n:]
		}
	}
	g.byName[name] = make
	return make
}

// wordEnd reports whether the last n letters of a name are words of it: "eventAt"
// and "event_at" end with "at", "format" does not.
func wordEnd(name string, n int) bool {
	var letters []rune
	starts := map[int]bool{}
	before := '_'
	for _, r := range name {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			if !unicode.IsLetter(before) && !unicode.IsDigit(before) || unicode.IsUpper(r) &&
				!unicode.IsUpper(before) || unicode.IsDigit(r) != unicode.IsDigit(before) {
				starts[len(letters)] = true
			}
			letters = append(letters, r)
		}
		before = r
	}
	return starts[len(letters)-n]
}

// numbered holds a usual range, in hundredths, of a number by what its name ends
// with.
var numbered = map[string][2]int{
	"latitude": {-6000, 7000}, "lat": {-6000, 7000}, "longitude": {-18000, 18000}, "lon": {-18000, 18000},
	"lng":   {-18000, 18000},
	"price": {100, 25000}, "amount": {100, 50000}, "total": {100, 90000}, "fare": {150, 9000}, "cost": {100, 50000},
	"fee": {50, 2000}, "tax": {10, 5000}, "balance": {-20000, 500000}, "discount": {0, 5000},
	"age": {0, 9500}, "quantity": {100, 2000}, "qty": {100, 2000}, "count": {0, 5000}, "year": {199000, 203500},
	"month": {100, 1200}, "hour": {0, 2300}, "minute": {0, 5900}, "second": {0, 5900},
	"percent": {0, 10000}, "percentage": {0, 10000}, "rate": {0, 10000}, "ratio": {0, 100}, "score": {0, 10000},
	"temperature": {-1500, 3500}, "humidity": {0, 10000},
	"weight": {10, 250000}, "length": {100, 2000}, "width": {50, 500}, "height": {50, 500}, "speed": {0, 2500},
	"heading": {0, 35999}, "course": {0, 35999}, "distance": {10, 90000},
	"size": {100, 900000}, "bytes": {100, 9000000}, "duration": {0, 360000}, "id": {100, 99999900},
	"port": {102400, 6553500}, "index": {0, 10000}, "page": {100, 5000},
}

// numberNamed returns the range that a name says; ok is false for none.
func (g *Generator) numberNamed(name string) (of [2]int, ok bool) {
	if of, known := g.numbers[name]; known {
		return of, of != [2]int{}
	}
	if len(name) <= 64 {
		whole := joined(name)
		for s := whole; s != "" && !ok; {
			if of, ok = numbered[s]; ok && len(s) < len(whole) && !wordEnd(name, utf8.RuneCountInString(s)) {
				of, ok = [2]int{}, false
			}
			_, n := utf8.DecodeRuneInString(s)
			s = s[n:]
		}
	}
	g.numbers[name] = of
	return of, ok
}
