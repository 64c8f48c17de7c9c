package language_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tivset/internal/answer/language"
)

func TestNames(t *testing.T) {
	for tag, named := range map[string]string{"de": "German, Deutsch (de)", "en": "English (en)",
		"pt_BR": "Brazilian Portuguese, português (pt_BR)", "zh-Hant": "Traditional Chinese, 繁體中文 (zh-Hant)",
		"nonsense-tag-of-a-kit": "nonsense-tag-of-a-kit", "": ""} {
		assert.Equal(t, named, language.Named(tag))
	}
}

func TestFind(t *testing.T) {
	tags := []string{"en", "de", "nl"}
	for word, tag := range map[string]string{"de": "de", "german": "de", "Deutsch": "de", "DUTCH": "nl", "french": "",
		"": ""} {
		assert.Equal(t, tag, language.Find(word, tags), word)
	}
}
