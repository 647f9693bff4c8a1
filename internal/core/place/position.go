package place

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// Position is a point on earth: decimal degrees, WGS 84.
type Position struct {
	Latitude  float64 `json:"lat"`
	Longitude float64 `json:"long"`
}

// ParsePosition reads a latitude and a longitude, such as 51.5, 7.25.
func ParsePosition(text string) (Position, error) {
	lat, long, both := strings.Cut(text, ",")
	p, err := PositionOf(lat, long)
	if !both || err != nil {
		return Position{}, fmt.Errorf("%q is no position such as 51.5, 7.25 (latitude, longitude)", text)
	}
	return p, nil
}

// PositionOf reads a latitude and a longitude, each in decimal degrees.
func PositionOf(latitude, longitude string) (Position, error) {
	lat, err := strconv.ParseFloat(strings.TrimSpace(latitude), 64)
	long, err2 := strconv.ParseFloat(strings.TrimSpace(longitude), 64)
	if err != nil || err2 != nil || !(math.Abs(lat) <= 90) || !(math.Abs(long) <= 180) {
		return Position{}, fmt.Errorf("%q, %q is no position", latitude, longitude)
	}
	return Position{lat, long}, nil
}

func (p Position) String() string {
	return strconv.FormatFloat(p.Latitude, 'f', -1, 64) + ", " + strconv.FormatFloat(p.Longitude, 'f', -1, 64)
}

// earthKm is the mean radius of the earth in kilometres (IUGG).
const earthKm = 6371.0088

// Km is how far another position is, as the crow flies: kilometres along a great circle, by the haversine formula.
func (p Position) Km(to Position) float64 {
	rad := func(degrees float64) float64 { return degrees * math.Pi / 180 }
	lat, long := math.Sin(rad(to.Latitude-p.Latitude)/2), math.Sin(rad(to.Longitude-p.Longitude)/2)
	h := lat*lat + math.Cos(rad(p.Latitude))*math.Cos(rad(to.Latitude))*long*long
	return 2 * earthKm * math.Asin(math.Sqrt(min(1, h)))
}
