package baseline

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAHostIsKnownHoweverItIsSpelt(t *testing.T) {
	for _, same := range [][2]string{{"lane.example", "https://www.lane.example"}, {"WWW.Lane.example.", "https://lane.example/"}, {"lane.example:443", "lane.example"}, {" https://lane.example/a ", "lane.example"}, {"bühne.example", "xn--bhne-0ra.example"}, {"[2001:db8::1]:8080", "http://[2001:db8::1]/"}, {"http://wren@lane.example", "lane.example"}} {
		assert.True(t, isSpelling(same[0], same[1]), "%q and %q", same[0], same[1])
	}
	for _, other := range [][2]string{{"", ""}, {"", "https://lane.example"}, {"old-lane.example", "https://lane.example"}, {"shop.lane.example", "lane.example"}, {"lane.example.evil.example", "lane.example"}, {"wwwlane.example", "lane.example"}, {"[2001:db8::1]", "[2001:db8::2]"}, {"lane.example@evil.example", "lane.example"}, {"two words", "two words"}} {
		assert.False(t, isSpelling(other[0], other[1]), "%q and %q", other[0], other[1])
	}
}

func TestTheNight(t *testing.T) {
	for _, hour := range []string{"22:00", "23.59", "0:10", "03:40", "3:40:00", "0340", "3:40 AM", "12:05 a.m.", "10:30pm", "2 am", "40 3 * * *", "5 23 * * 1-5", "@daily", "@midnight", "Nightly", "24:00", "03:40 UTC", "03:40+02:00", "T03:40", "at 03:40", "daily at 3 am", "2:15 Europe/London", "*/10 2 * * *", "0 1-4 * * *", "15,45 23,3 * * *"} {
		assert.True(t, night.MatchString(hour), hour)
	}
	for _, hour := range []string{"", "6:00", "06:00", "21:59", "11:00", "1400", "1530", "03:40 PM", "10:30 am", "12:05 pm", "24:01", "13:40 UTC", "at 14:00", "0 0-23 * * *", "0 3,15 * * *", "0 2-9 * * *", "0 22-5 * * *", "*/5 * * * *", "03:40 and 15:40", "3:60", "5 14 * * *", "* * * * *", "@hourly", "daily", "noon", "3"} {
		assert.False(t, night.MatchString(hour), hour)
	}
}
