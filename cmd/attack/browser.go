package main

import (
	"bytes"
	"context"
	"fmt"
	"html"
	"io"
	"mime/multipart"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"regexp"
	"strings"
	"sync/atomic"
	"time"
)

// browser is one who looks and writes, with cookies of its own.
type browser struct {
	base  string
	http  *http.Client
	token string
}

func newBrowser(base string) *browser {
	jar, _ := cookiejar.New(nil) // never fails without options
	return &browser{base: base, http: &http.Client{Jar: jar, Timeout: 2 * time.Minute, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
}

// answer is what came back.
type answer struct {
	code int
	body string
	to   string // where a form led
	took time.Duration
}

// says is the sentence of a refused form or page.
func (a answer) says() string {
	for _, re := range []*regexp.Regexp{regexp.MustCompile(`(?s)role="alert"[^>]*>(.*?)</`), regexp.MustCompile(`(?s)<main[^>]*>(.*?)</main>`), regexp.MustCompile(`"say":"([^"]*)"`)} {
		if m := re.FindStringSubmatch(a.body); m != nil {
			return strings.Join(strings.Fields(html.UnescapeString(regexp.MustCompile(`<[^>]*>`).ReplaceAllString(m[1], " "))), " ")
		}
	}
	return ""
}

func (b *browser) do(req *http.Request) (answer, error) {
	began := time.Now()
	res, err := b.http.Do(req)
	if err != nil {
		return answer{}, err
	}
	defer res.Body.Close()
	data, err := io.ReadAll(res.Body)
	return answer{code: res.StatusCode, body: string(data), to: res.Header.Get("Location"), took: time.Since(began)}, err
}

var tokenField = regexp.MustCompile(`name="csrf" value="([^"]*)"`)

// get looks at a page.
func (b *browser) get(ctx context.Context, path string) (answer, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, b.base+path, nil)
	if err != nil {
		return answer{}, err
	}
	a, err := b.do(req)
	if m := tokenField.FindStringSubmatch(a.body); m != nil {
		b.token = html.UnescapeString(m[1])
	}
	return a, err
}

var keys atomic.Int64

// ready makes sure that there is a token to send a form with.
func (b *browser) ready(ctx context.Context) error {
	if b.token != "" {
		return nil
	}
	a, err := b.get(ctx, "/cases/new")
	if err == nil && b.token == "" {
		err = fmt.Errorf("no token on the page, %d", a.code)
	}
	return err
}

// post sends a form.
func (b *browser) post(ctx context.Context, path string, fields url.Values) (answer, error) {
	if err := b.ready(ctx); err != nil {
		return answer{}, err
	}
	fields.Set("csrf", b.token)
	fields.Set("key", fmt.Sprint("k", keys.Add(1)))
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, b.base+path, strings.NewReader(fields.Encode()))
	if err != nil {
		return answer{}, err
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	return b.do(req)
}

// file is what is uploaded with a form.
type file struct {
	field, name string
	data        []byte
}

// upload sends a form with a file.
func (b *browser) upload(ctx context.Context, path string, fields map[string]string, f file) (answer, error) {
	if err := b.ready(ctx); err != nil {
		return answer{}, err
	}
	var body bytes.Buffer
	w := multipart.NewWriter(&body)
	for k, v := range fields {
		_ = w.WriteField(k, v) // into memory
	}
	_ = w.WriteField("csrf", b.token)
	_ = w.WriteField("key", fmt.Sprint("k", keys.Add(1)))
	part, err := w.CreateFormFile(f.field, f.name)
	if err != nil {
		return answer{}, err
	}
	_, _ = part.Write(f.data)
	_ = w.Close()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, b.base+path, &body)
	if err != nil {
		return answer{}, err
	}
	req.Header.Set("Content-Type", w.FormDataContentType())
	return b.do(req)
}
