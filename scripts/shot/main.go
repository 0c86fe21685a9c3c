// Command shot takes a picture of a page in headless Chromium:
// shot FILE.html#PART PICTURE.png WIDTHxHEIGHT [dark]
package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
)

func main() {
	if err := shoot(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "shot:", err)
		os.Exit(1)
	}
}

func shoot(args []string) error {
	if len(args) < 3 {
		return fmt.Errorf("usage: shot FILE.html#PART PICTURE.png WIDTHxHEIGHT [dark]")
	}
	name, part, _ := strings.Cut(args[0], "#")
	abs, err := filepath.Abs(name)
	if err != nil {
		return err
	}
	var width, height int64
	if _, err := fmt.Sscanf(args[2], "%dx%d", &width, &height); err != nil {
		return fmt.Errorf("the size %q: %w", args[2], err)
	}
	scheme := "light"
	if len(args) > 3 {
		scheme = args[3]
	}
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true))...)
	defer cancel()
	ctx, cancel = chromedp.NewContext(ctx)
	defer cancel()
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(width, height)); err != nil {
		return err
	}
	ctx, cancel = context.WithTimeout(ctx, time.Minute)
	defer cancel()
	if _, err := chromedp.Call(ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}}}); err != nil {
		return err
	}
	if err := chromedp.Do(ctx, chromedp.Navigate("file://"+abs+"#"+part), chromedp.Sleep(300*time.Millisecond)); err != nil {
		return err
	}
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(args[1], png, 0o644)
}
