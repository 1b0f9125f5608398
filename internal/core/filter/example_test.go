package filter_test

import (
	"fmt"
	"time"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/filter"
	"ubiquon/internal/core/model"
)

func Example() {
	m, err := model.Read(map[string][]byte{"model.yaml": []byte(`
locales: {en: {}}
types:
  notice:
    fields:
      title: {kind: text}
      severity: {kind: choice, options: {delay: Delay, cancelled: Cancelled}}
`)})
	if err != nil {
		fmt.Println(err)
		return
	}
	f, err := filter.Parse("severity = 'delay' AND title LIKE 'Ramp%'", m, m.Type("notice"))
	if err != nil {
		fmt.Println(err)
		return
	}
	notice := filter.Values{ID: "n1", Known: content.Fields{"title": "Ramp at Mella", "severity": "delay"}}
	fmt.Println(f)
	fmt.Println(f.Match(notice, time.Now()))

	_, err = filter.Parse("severty = 'delay'", m, m.Type("notice"))
	fmt.Println(err)
	// Output:
	// (severity = 'delay' AND title LIKE 'Ramp%')
	// true
	// at character 1: notice has no property "severty"; did you mean "severity"?
}
