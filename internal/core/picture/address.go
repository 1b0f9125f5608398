package picture

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"math"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"ubiquon/internal/core/model"
)

// Addresses makes the addresses of files and of pictures that are made of them. It is safe for
// concurrent use.
type Addresses struct {
	// Base is put before every address, as in https://gateway.example; "" for addresses that
	// begin with a slash.
	Base        string
	Environment string
	// Secret signs addresses.
	Secret []byte
	// Ladder are the widths that anybody may ask for.
	Ladder []int
	// Now is the clock.
	Now func() time.Time
}

// Facts are what addresses are made of.
type Facts struct {
	Hash, Name, MediaType string
	Width, Height         int
	// Focus are the focal region's x, y, width and height as fractions; all 0 for none.
	Focus [4]float64
	// Draft says that no reader can see the file without a signature.
	Draft bool
}

// IsPicture tells whether pictures can be made of the file.
func (f *Facts) IsPicture() bool { return f.Width > 0 && f.Height > 0 && IsSource(f.MediaType) }

// IsSource tells whether pictures are made of files of the media type.
func IsSource(mediaType string) bool { return slices.Contains(sources, mediaType) }

var sources = []string{"image/jpeg", "image/png", "image/gif", "image/webp", "image/avif", "image/tiff"}

// DraftAddressesFor is how long an address of a file that is not published is good at least.
const DraftAddressesFor = 24 * time.Hour

// until is when an address of a draft ends: the same for a whole day, so that equal reads give
// equal answers.
func (a *Addresses) until() int64 {
	return a.Now().UTC().Truncate(24*time.Hour).AddDate(0, 0, 3).Unix()
}

func (a *Addresses) sign(what string) string {
	m := hmac.New(sha256.New, a.Secret)
	m.Write([]byte(a.Environment + "\n" + what))
	return base64.RawURLEncoding.EncodeToString(m.Sum(nil)[:15])
}

// File is the address of the file itself.
func (a *Addresses) File(f *Facts) string {
	out := a.Base + "/files/" + a.Environment + "/" + f.Hash + "/" + url.PathEscape(f.Name)
	if f.Draft {
		until := strconv.FormatInt(a.until(), 10)
		out += "?until=" + until + "&sig=" + a.sign("draft "+f.Hash+" "+until)
	}
	return out
}

// Service is the base address of the file in the IIIF Image API.
func (a *Addresses) Service(hash string) string {
	return a.Base + "/images/" + a.Environment + "/" + hash
}

// Signature says what an address is signed for.
type Signature struct {
	// Draft: the file may be read before it is published.
	Draft bool
	// Exact: just this picture may be made.
	Exact bool
	// Region: this region may be made, in the widths that anybody may ask for.
	Region bool
}

// Check reads the signature of an address. rest is what stands behind the hash, "" for the file itself.
func (a *Addresses) Check(hash, rest string, query url.Values) (s Signature) {
	region, _, _ := strings.Cut(rest, "/")
	quality := query.Get("q")
	if sig := query.Get("sig"); sig != "" {
		until, err := strconv.ParseInt(query.Get("until"), 10, 64)
		s.Draft = err == nil && same(sig, a.sign("draft "+hash+" "+query.Get("until"))) &&
			time.Unix(until, 0).After(a.Now())
	}
	if sig := query.Get("for"); sig != "" {
		s.Exact = same(sig, a.sign("exact "+hash+" "+rest+" "+quality))
		s.Region = !s.Exact && quality == "" && same(sig, a.sign("region "+hash+" "+region))
	}
	return s
}

func same(a, b string) bool { return subtle.ConstantTimeCompare([]byte(a), []byte(b)) == 1 }

// Shown is a picture as a read asks for it, worked out.
type Shown struct {
	Region        Box
	whole         bool
	Width, Height int // of the outcome
	wanted        model.Rendition
}

// Show works out what a picture looks like in the form that is wanted: cover is a crop of the
// wanted proportions around the focal region, as large as the picture has it and no larger than
// wanted; contain and inside are the whole picture within the size, inside never enlarged.
//
// Without a form it is the whole picture.
func Show(f *Facts, form *model.Rendition) Shown {
	var want model.Rendition
	if form != nil {
		want = *form
	}
	s := Shown{Region: Box{0, 0, f.Width, f.Height}, whole: true, wanted: want}
	w, h := want.Width, want.Height
	if want.Fit != "" && want.Fit != "cover" || w == 0 || h == 0 {
		limit := math.Inf(1)
		for _, side := range [][2]int{{w, f.Width}, {h, f.Height}} {
			if side[0] > 0 {
				limit = math.Min(limit, float64(side[0])/float64(side[1]))
			}
		}
		if want.Fit != "contain" {
			limit = math.Min(limit, 1)
		}
		s.Width, s.Height = scaled(f.Width, limit), scaled(f.Height, limit)
		return s
	}
	s.Region = Crop(f.Width, f.Height, w, h, f.Focus)
	s.whole = s.Region == Box{0, 0, f.Width, f.Height}
	s.Width, s.Height = w, h
	if s.Region.Width < w || s.Region.Height < h {
		s.Width, s.Height = s.Region.Width, s.Region.Height
	}
	return s
}

// Crop returns the largest region of a picture with the proportions of w to h that has the focal
// region in its middle, as far as the edges allow. Where the focal region does not fit, its
// middle is the middle.
func Crop(width, height, w, h int, focus [4]float64) Box {
	cw, ch := width, int(math.Round(float64(width)*float64(h)/float64(w)))
	if ch > height {
		cw, ch = int(math.Round(float64(height)*float64(w)/float64(h))), height
	}
	cw, ch = min(max(cw, 1), width), min(max(ch, 1), height)
	middleX, middleY := 0.5, 0.5
	if focus[2] > 0 && focus[3] > 0 {
		middleX, middleY = focus[0]+focus[2]/2, focus[1]+focus[3]/2
	}
	place := func(middle float64, whole, part int) int {
		at := int(math.Round(middle*float64(whole) - float64(part)/2))
		return min(max(at, 0), whole-part)
	}
	return Box{place(middleX, width, cw), place(middleY, height, ch), cw, ch}
}

// ending is the ending of a wanted format.
func ending(format string) string {
	switch format {
	case "", AutoFormat:
		return AutoFormat
	case "jpeg":
		return "jpg"
	}
	return format
}

func (s *Shown) region() string {
	if s.whole {
		return "full"
	}
	return s.Region.String()
}

// Picture is the address of a picture that is shown so.
func (a *Addresses) Picture(f *Facts, s Shown) string {
	rest := s.region() + "/" + strconv.Itoa(
		s.Width,
	) + "," + strconv.Itoa(
		s.Height,
	) + "/0/default." + ending(
		s.wanted.Format,
	)
	if s.Width > s.Region.Width || s.Height > s.Region.Height {
		rest = strings.Replace(rest, "/", "/^", 1)
	}
	out := a.Service(f.Hash) + "/" + rest
	query := ""
	quality := ""
	if s.wanted.Quality > 0 {
		quality = strconv.Itoa(s.wanted.Quality)
		query = "&q=" + quality
	}
	if !s.free(a.Ladder) || quality != "" {
		query += "&for=" + a.sign("exact "+f.Hash+" "+rest+" "+quality)
	}
	return out + a.tail(f, query)
}

// Preview is the address of the file 320 pixels wide, for lists, in a format of model.PictureFormats.
func (a *Addresses) Preview(f *Facts, format string) string {
	return a.Picture(f, Show(f, &model.Rendition{Width: previewWidth, Fit: "inside", Format: format}))
}

const previewWidth = 320

// free tells whether anybody may ask for the picture.
func (s *Shown) free(ladder []int) bool {
	return s.whole && s.Width <= s.Region.Width && (s.Width == s.Region.Width || slices.Contains(ladder, s.Width))
}

// tail ends an address with what it is signed with.
func (a *Addresses) tail(f *Facts, query string) string {
	if f.Draft {
		until := strconv.FormatInt(a.until(), 10)
		query += "&until=" + until + "&sig=" + a.sign("draft "+f.Hash+" "+until)
	}
	if query == "" {
		return ""
	}
	return "?" + query[1:]
}

// Source is one format of a picture in several widths, for a source element of HTML.
type Source struct {
	Type   string `json:"type"`
	Srcset string `json:"srcset"`
}

// srcsetFormats are the formats of a srcset, the smallest first.
var srcsetFormats = []struct{ ending, mediaType string }{
	{"avif", "image/avif"}, {"webp", "image/webp"}, {"jpg", "image/jpeg"},
}

// AppendSrcset writes the picture as JSON, in the formats and widths of a picture element: a list
// of Source, up to twice the wanted width.
func (a *Addresses) AppendSrcset(out []byte, f *Facts, s Shown) []byte {
	region, query := s.region(), ""
	if !s.whole {
		query = "&for=" + a.sign("region "+f.Hash+" "+region)
	}
	tail := a.tail(f, query)
	most := s.Region.Width
	if s.wanted.Width > 0 || s.wanted.Height > 0 {
		most = min(most, 2*s.Width)
	}
	last := "jpg"
	if f.MediaType == "image/png" || f.MediaType == "image/gif" {
		last = "png"
	}
	service := a.Service(f.Hash)
	out = append(out, '[')
	for i, format := range srcsetFormats {
		end, mediaType := format.ending, format.mediaType
		if i == len(srcsetFormats)-1 && last == "png" {
			end, mediaType = "png", "image/png"
		}
		if i > 0 {
			out = append(out, ',')
		}
		out = append(out, `{"type":"`...)
		out = append(out, mediaType...)
		out = append(out, `","srcset":"`...)
		first := true
		one := func(size string, width int) {
			if !first {
				out = append(out, ", "...)
			}
			first = false
			out = append(out, service...)
			out = append(out, '/')
			out = append(out, region...)
			out = append(out, '/')
			out = append(out, size...)
			out = append(out, "/0/default."...)
			out = append(out, end...)
			out = append(out, tail...)
			out = append(out, ' ')
			out = strconv.AppendInt(out, int64(width), 10)
			out = append(out, 'w')
		}
		for _, w := range a.Ladder {
			if w < s.Region.Width && w <= most {
				one(strconv.Itoa(w)+",", w)
			}
		}
		if most == s.Region.Width || first {
			one("max", s.Region.Width)
		}
		out = append(out, `"}`...)
	}
	return append(out, ']')
}
