// Package seal is the form in which a published report can be checked by anybody: a
// manifest of its files by digest, signed with Ed25519 (RFC 8032) and chained by hash to
// the report before it, in a zip whose every byte follows from its contents.
package seal

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base32"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"kestite/core/span"
)

// Format is the name of the manifest's form.
const Format = "kestite-manifest/1"

// context goes before what is signed, so that a signature of a manifest is none of anything else.
const context = "kestite-manifest/1\n"

// What an account can be recomputed from.
const (
	ByMeasurements = "measurements" // measurements.csv holds all of them
	ByStretches    = "stretches"    // not all measurements were kept, or they were too many; what was judged of them is in stretches.json
)

// Manifest says what a published report is made of, and what was published before it.
type Manifest struct {
	Format       string       `json:"format"`
	Organisation string       `json:"organisation"`
	Customer     string       `json:"customer"` // id; empty: internal
	CustomerName string       `json:"customer_name"`
	Number       int64        `json:"number"` // in the customer's chain, from 1 without a gap
	Agreement    string       `json:"agreement"`
	Name         string       `json:"name"`
	Period       string       `json:"period"`
	Report       int          `json:"report"` // of the period, from 1: the first, then its revisions
	PublishedAt  span.Instant `json:"published_at"`
	PublishedBy  string       `json:"published_by"`
	Evidence     string       `json:"evidence"`
	Files        []File       `json:"files"`    // in the order of their names
	Previous     *Link        `json:"previous"` // the customer's; null: it is the first
	Ledger       *Link        `json:"ledger"`   // the organisation's before this; null: it is the first of all
	Key          string       `json:"key"`      // id of the key that signs; empty: it is not signed
}

// File is one file of a report.
type File struct {
	Name   string `json:"name"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
}

// Link is one of a chain: its number and its digest, in hexadecimal.
type Link struct {
	Number int64  `json:"number"`
	SHA256 string `json:"sha256"`
}

// Encode writes a manifest as it is signed and digested.
func (m Manifest) Encode() ([]byte, error) {
	text, err := json.MarshalIndent(m, "", " ")
	return append(text, '\n'), err
}

// Decode reads a manifest; what it does not know is refused.
func Decode(text []byte) (Manifest, error) {
	var m Manifest
	from := json.NewDecoder(strings.NewReader(string(text)))
	from.DisallowUnknownFields()
	if err := from.Decode(&m); err != nil {
		return m, fmt.Errorf("the manifest cannot be read: %w", err)
	}
	if m.Format != Format {
		return m, fmt.Errorf("the manifest's format is %q; this program knows %s", m.Format, Format)
	}
	if again, err := m.Encode(); err != nil || string(again) != string(text) {
		return m, errors.New("the manifest is not written as a manifest is: its bytes do not follow from what it says")
	}
	return m, nil
}

// Digest is the SHA-256 of something, in hexadecimal.
func Digest(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// Link is the manifest, encoded, as the next one of its customer names it.
func (m Manifest) Link(encoded []byte) Link { return Link{m.Number, Digest(encoded)} }

// Entry is the organisation's ledger once a manifest has been added to it: the SHA-256 of
// the entry before it (32 bytes, zeros before the first) and the manifest's digest.
func Entry(before *Link, manifest []byte) Link {
	h := sha256.New()
	previous := make([]byte, sha256.Size)
	number := int64(1)
	if before != nil {
		if b, err := hex.DecodeString(before.SHA256); err == nil && len(b) == sha256.Size {
			previous = b
		}
		number = before.Number + 1
	}
	sum := sha256.Sum256(manifest)
	h.Write(previous)
	h.Write(sum[:])
	return Link{number, hex.EncodeToString(h.Sum(nil))}
}

// Code is a link as people can read it out: its number and the first 100 bits of its
// digest, "17-K7Q2M-4XNRA-…". Whoever keeps it is a witness of all that was published to
// them up to it.
func (l Link) Code() string {
	const groups, letters = 4, 5
	sum, err := hex.DecodeString(l.SHA256)
	if err != nil {
		return ""
	}
	text := base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(sum)
	out := strconv.FormatInt(l.Number, 10)
	for i := range groups {
		out += "-" + text[i*letters:(i+1)*letters]
	}
	return out
}

// ParseCode reads a code as people write it; the digest's beginning stays as letters.
func ParseCode(text string) (number int64, letters string, err error) {
	first, rest, _ := strings.Cut(strings.ToUpper(strings.TrimSpace(text)), "-")
	letters = strings.ReplaceAll(rest, "-", "")
	if number, err = strconv.ParseInt(first, 10, 64); err != nil || number < 1 || len(letters) != 20 ||
		strings.Trim(letters, "ABCDEFGHIJKLMNOPQRSTUVWXYZ234567") != "" {
		return 0, "", fmt.Errorf("%q is no code; one is a number and four groups of five letters, as 17-K7Q2M-4XNRA-ABCDE-FGHIJ", text)
	}
	return number, letters, nil
}

// KeyID names a public key: the first half of its SHA-256, in hexadecimal.
func KeyID(public ed25519.PublicKey) string { return Digest(public)[:32] }

// Sign signs an encoded manifest; the signature is base64 with a line's end.
func Sign(private ed25519.PrivateKey, manifest []byte) []byte {
	return []byte(base64.StdEncoding.EncodeToString(ed25519.Sign(private, append([]byte(context), manifest...))) + "\n")
}

// Signed says whether a signature is that of a key on a manifest.
func Signed(public ed25519.PublicKey, manifest, signature []byte) bool {
	text, ends := strings.CutSuffix(string(signature), "\n")
	raw, err := base64.StdEncoding.Strict().DecodeString(text)
	return ends && err == nil && len(public) == ed25519.PublicKeySize && ed25519.Verify(public, append([]byte(context), manifest...), raw)
}

// FilesOf are the entries of a manifest for files, in the order of their names.
func FilesOf(files map[string][]byte) []File {
	var out []File
	for name, b := range files {
		out = append(out, File{name, int64(len(b)), Digest(b)})
	}
	slices.SortFunc(out, func(a, b File) int { return strings.Compare(a.Name, b.Name) })
	return out
}
