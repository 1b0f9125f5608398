package demo

import (
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"ubiquon/internal/core/access"
)

// ConnectionInfo is what demo.json holds: everything a newcomer needs to try things out.
type ConnectionInfo struct {
	Gateway string `json:"gateway"`
	Office  string `json:"office"`
	Slipway string `json:"slipway"`
	// Breakwater is the shared cache before the gateway.
	Breakwater string `json:"breakwater"`
	// Board is the pier display, Mailbox the page of the mail server, SMTP where it takes mail.
	Board   string `json:"board"`
	Mailbox string `json:"mailbox"`
	SMTP    string `json:"smtp"`
	Keys    Keys   `json:"keys"`
	// Accounts may sign in to the console; the first is an admin.
	Accounts          []Account `json:"accounts"`
	OfficeCredentials string    `json:"officeCredentials"`
	HookSecret        string    `json:"hookSecret"`
	SlipwaySecret     string    `json:"slipwaySecret"`
	BreakwaterSecret  string    `json:"breakwaterSecret"`
	BoardSecret       string    `json:"boardSecret"`
	// Tides is the repository of the tide tables, and TidesSecret signs that it was pushed to.
	Tides       string `json:"tides"`
	TidesSecret string `json:"tidesSecret"`
	// Nodes are the addresses of the single nodes, if there are several.
	Nodes []string `json:"nodes,omitempty"`
}

// Keys are the demo's keys.
type Keys struct {
	Published string `json:"published"` // reads everything published
	Preview   string `json:"preview"`   // and in preview
	Admin     string `json:"admin"`     // does everything
	Site      string `json:"site"`      // the slipway's
	Board     string `json:"board"`     // the pier display's
}

// Account is somebody of the line who may sign in to the console.
type Account struct {
	Email    string      `json:"email"`
	Name     string      `json:"name"`
	Role     access.Role `json:"role"`
	Password string      `json:"password"`
}

// CardFile is where the card of a demo with this data directory lies.
func CardFile(data string) string { return filepath.Join(data, "demo.json") }

// secretsFile keeps what a second start needs to know of the first. It is the
// card without addresses; demo.json itself is there only when all is ready.
const secretsFile = "secrets.json"

// newSecret makes up a secret that signs announcements.
func newSecret() string {
	b := make([]byte, 24)
	rand.Read(b) // never fails
	return "whsec_" + base64.StdEncoding.EncodeToString(b)
}

func loadConnection(data string) (ConnectionInfo, error) {
	var card ConnectionInfo
	if err := os.Remove(CardFile(data)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return card, err
	}
	file := filepath.Join(data, secretsFile)
	src, err := os.ReadFile(file)
	switch {
	case err == nil:
		if err := json.Unmarshal(src, &card); err != nil {
			return card, fmt.Errorf("%s: %w; remove it, or start with --fresh", file, err)
		}
		if card.BoardSecret == "" { // from before there was one
			card.BoardSecret, card.Keys.Board = newSecret(), access.NewSecret()
			return card, writeConnection(file, card)
		}
		if card.TidesSecret == "" {
			card.TidesSecret = rand.Text()
			return card, writeConnection(file, card)
		}
		return card, nil
	case !errors.Is(err, os.ErrNotExist):
		return card, err
	}
	card.OfficeCredentials = "gateway:" + rand.Text()
	card.HookSecret, card.SlipwaySecret = newSecret(), newSecret()
	card.BreakwaterSecret, card.BoardSecret, card.TidesSecret = newSecret(), newSecret(), rand.Text()
	card.Keys = Keys{
		Published: access.NewSecret(),
		Preview:   access.NewSecret(),
		Admin:     access.NewSecret(),
		Site:      access.NewSecret(),
		Board:     access.NewSecret(),
	}
	for _, a := range []Account{
		{Email: "harbour.master@skerry.example", Name: "Ask Holme", Role: access.RoleAdmin},
		{Email: "duty@skerry.example", Name: "Tilda Vik", Role: access.RoleApprover},
		{Email: "notices@skerry.example", Name: "Jorun Aas", Role: access.RoleEditor},
		{Email: "board@skerry.example", Name: "The line's board", Role: access.RoleReader},
	} {
		a.Password = strings.ToLower(rand.Text()[:16])
		card.Accounts = append(card.Accounts, a)
	}
	return card, writeConnection(file, card)
}

func writeConnection(file string, card ConnectionInfo) error {
	src, err := json.MarshalIndent(card, "", "  ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(file+".new", append(src, '\n'), 0o600); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}
