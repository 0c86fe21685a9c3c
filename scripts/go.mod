module obiter/scripts

go 1.26.0

require (
	github.com/chromedp/cdproto v0.159.0
	github.com/chromedp/chromedp v0.23.0
)

require github.com/go-json-experiment/json v0.0.0-20260213210345-44df1a37e875 // indirect
