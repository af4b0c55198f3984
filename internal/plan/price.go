package plan

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"domicile/internal/fault"
)

// Price is what something costs while it runs. The zero Price is none: it is free, or nobody
// said what it costs.
type Price struct {
	Hour     int64  `json:"hour"`     // in millionths of the currency's unit
	Currency string `json:"currency"` // three letters, such as EUR
}

// monthHours are the hours that a price of a month counts: a twelfth of a year without a pause.
const monthHours = 730

// micros are the millionths of a unit.
const micros = 1_000_000

// ParsePrice reads the price of an hour, such as 0.02EUR.
func ParsePrice(text string) (Price, error) {
	number := strings.TrimRight(text, "ABCDEFGHIJKLMNOPQRSTUVWXYZ")
	currency := text[len(number):]
	amount, err := strconv.ParseFloat(number, 64)
	if err != nil || len(currency) != 3 || amount < 0 || amount > 1e6 || math.IsNaN(amount) {
		return Price{}, fault.New("bad-price", "write the price of an hour as 0.02EUR", "%q is no price", text)
	}
	if amount == 0 {
		return Price{}, nil
	}
	return Price{Hour: int64(math.Round(amount * micros)), Currency: currency}, nil
}

// PerHour is the price of an hour as a decimal number, without its currency.
func (p Price) PerHour() string { return decimal(p.Hour) }

// PerMonth is the price of a month without a pause as a decimal number.
func (p Price) PerMonth() string { return decimal(p.Hour * monthHours) }

// String is a price in words; empty for none.
func (p Price) String() string {
	if p.Hour == 0 {
		return ""
	}
	return fmt.Sprintf("%s %s an hour, %[3]s %[2]s a month", p.PerHour(), p.Currency, p.PerMonth())
}

// decimal writes millionths with two digits behind the point, or as many as they need.
func decimal(n int64) string {
	text := fmt.Sprintf("%d.%06d", n/micros, n%micros)
	for strings.HasSuffix(text, "0") && len(text)-strings.Index(text, ".") > 3 {
		text = text[:len(text)-1]
	}
	return text
}
