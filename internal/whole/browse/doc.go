// Package browse tests the console in a headless Chromium, and draws the pictures of the README.
package browse
