// Package show writes values as people read them: in sentences, cells and reviews.
package show
