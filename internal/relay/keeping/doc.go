// Package keeping looks after the company file: copies of it while it is worked on, what a copy becomes again, and the keys of
// what is sealed in it. It never looks into orders or goods. Copies are made from the file itself, so that the command line can
// make them, too, whether a service works on the file or not.
package keeping
