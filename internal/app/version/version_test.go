package version_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tivset/internal/app/version"
)

func TestNewer(t *testing.T) {
	for _, pair := range [][2]string{
		{"2.10.0", "2.9.1"}, {"b", "a"}, {"1.0.0", "1.0.0-beta.2"},
		{"0.12.1-8+deb12u2", "0.12.1-8+deb12u1"}, {"0.12.1-10", "0.12.1-9"}, {"0.14.0-2", "0.12.1-8+deb12u2"},
		{"1.0.0-1", "1.0.0"}, {"21~git20210204.b4cbc79-1.2", "21~git20210204.b4cbc79-1"},
		{"4.4.30-0+deb13u1", "4.4.28-1"},
	} {
		assert.True(t, version.Newer(pair[0], pair[1]), "%s", pair)
		assert.False(t, version.Newer(pair[1], pair[0]), "%s", pair)
	}
	assert.False(t, version.Newer("2.9.1", "2.9.1"))
	assert.False(t, version.Newer("1.0-1", "1.0-1"))
}

func TestReleasesOfPackages(t *testing.T) {
	for packed, is := range map[string][2]string{
		"2:1.1.12+dfsg-8+deb12u2":                {"1.1.12-8+deb12u2", "1.1.12"},
		"1.2.51+ds-2":                            {"1.2.51-2", "1.2.51"},
		"21~git20210204.b4cbc79+dfsg-1.2":        {"21~git20210204.b4cbc79-1.2", "21"},
		"4:5.2.2-really+dfsg-1+deb13u1":          {"5.2.2-1+deb13u1", "5.2.2"},
		"1.4":                                    {"1.4-0", "1.4"},
		"4.0.5+ds+~cs20.241.5-1":                 {"4.0.5-1", "4.0.5"},
		"2024-02-06b+dfsg-9":                     {"2024.02.06b-9", "2024.02.06b"},
		"4:5.2.4~dev~git20260809.e0909b211b+d-1": {"5.2.4~dev~git20260809.e0909b211b-1", "5.2.4"},
	} {
		assert.Equal(t, is, [2]string{version.OfPackage(packed), version.Upstream(version.OfPackage(packed))}, packed)
	}
	assert.Equal(t, "1.0.0-beta", version.Upstream("1.0.0-beta"))
}

func TestLevel(t *testing.T) {
	assert.Equal(t, "fixes", version.Level("0.12.1-8", "0.12.1-8+deb12u2"))
	assert.Equal(t, "fixes", version.Level("1.6.5-1", "1.6.20-0+deb13u1"))
	assert.Equal(t, "features", version.Level("0.12.1-8", "0.14.0-2"))
	assert.Equal(t, "breaking", version.Level("1.2.3-1", "2.0-1"))
}

func TestWithin(t *testing.T) {
	assert.True(t, version.Within("", "whatever"))
	assert.True(t, version.Within(">=0.14", "0.14.0-2+deb13u1"))
	assert.False(t, version.Within(">=0.14", "0.12.1-8"))
	assert.False(t, version.Within(">=0.14", "git.b4c-1"))
	assert.True(t, version.Within(">=21", "21~git20210204.b4cbc79-1.2"))
}
