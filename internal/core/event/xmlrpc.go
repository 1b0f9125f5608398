package event

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"strings"

	"golang.org/x/net/html/charset"
)

// methodCall is a call of XML-RPC whose values are texts.
type methodCall struct {
	XMLName xml.Name `xml:"methodCall"`
	Method  string   `xml:"methodName"`
	Values  []struct {
		Bare string  `xml:",chardata"`
		Text *string `xml:"string"`
	} `xml:"params>param>value"`
}

// The methods of the weblog ping.
const (
	methodPing         = "weblogUpdates.ping"
	methodExtendedPing = "weblogUpdates.extendedPing"
)

// decodePing reads the weblog ping, which says that something has changed.
func decodePing(body []byte) ([]Announcement, error) {
	var call methodCall
	d := xml.NewDecoder(bytes.NewReader(body))
	d.CharsetReader = charset.NewReaderLabel
	if err := d.Decode(&call); err != nil {
		return nil, fmt.Errorf("the body is no call of XML-RPC: %w", err)
	}
	one := Announcement{Decoded: Decoded{Kind: Ping}, Body: body}
	least := 2
	switch strings.TrimSpace(call.Method) {
	case methodPing:
	case methodExtendedPing:
		least = 3
	default:
		return nil, fmt.Errorf(
			"there is no method %q; %s and %s are known",
			call.Method,
			methodPing,
			methodExtendedPing,
		)
	}
	if len(call.Values) < least {
		return nil, fmt.Errorf("%s wants the name and the address of a site", call.Method)
	}
	return []Announcement{one}, nil
}

// PingAnswer is the answer to a weblog ping, in XML-RPC; with a reason it tells of a failure.
func PingAnswer(reason string) []byte {
	failed, text := "0", "Thanks for the ping."
	if reason != "" {
		failed, text = "1", reason
	}
	var b bytes.Buffer
	b.WriteString(xml.Header + `<methodResponse><params><param><value><struct>` +
		`<member><name>flerror</name><value><boolean>` + failed + `</boolean></value></member>` +
		`<member><name>message</name><value><string>`)
	_ = xml.EscapeText(&b, []byte(text))
	b.WriteString(`</string></value></member></struct></value></param></params></methodResponse>` + "\n")
	return b.Bytes()
}
