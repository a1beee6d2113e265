package loader

import "slices"

// A Field is a value that templates and conditions can use.
type Field int

// The fields. What each stands for is described in docs/profile-format.md.
const (
	FieldID Field = iota
	FieldTitle
	FieldName
	FieldRegion
	FieldDisc
	FieldDiscs
	FieldKind
	FieldPlatform
	FieldExt
	FieldIndex
	FieldPage
	FieldNumber
	FieldBase
	FieldFolder
	FieldFile
	FieldSize
	FieldOffset
	FieldSum
	FieldYear
	FieldPlayers
	FieldPublisher
	FieldText
	FieldForm
	FieldParts
	FieldTags
	FieldVia
	FieldFilesystem
	FieldVolume
	FieldCapacity
	FieldSituation
	FieldSection
	FieldPlace
	FieldFavourite
	FieldLocked
	fieldCount
)

var fieldNames = [fieldCount]string{
	"id", "title", "name", "region", "disc", "discs", "kind", "platform", "ext", "index", "page", "number", "base",
	"folder",
	"file", "size", "offset", "crc32", "year", "players", "publisher", "text", "form", "parts",
	"tags", "via", "filesystem", "volume", "capacity", "situation", "section", "place",
	"favourite", "locked",
}

// String is the field's name in a template.
func (f Field) String() string { return fieldNames[f] }

// Values are what the fields stand for at one moment; "" is a field without value.
type Values [fieldCount]string

// FieldNamed is the field with a name in templates; ok is false where there is none.
func FieldNamed(name string) (Field, bool) {
	i := slices.Index(fieldNames[:], name)
	return Field(i), i >= 0
}

// titleFields come from a title itself.
var titleFields = []Field{FieldID, FieldTitle, FieldName, FieldRegion, FieldDisc, FieldDiscs, FieldKind, FieldPlatform,
	FieldExt}

// The fields that each kind of template may use.
var (
	pathFields = append(slices.Clone(titleFields), FieldPage, FieldNumber, FieldSize, FieldForm, FieldParts, FieldTags,
		FieldYear, FieldPlayers, FieldPublisher, FieldSection)
	partFields      = append(slices.Clone(pathFields), FieldIndex)
	companionFields = append(slices.Clone(titleFields), FieldBase, FieldFolder, FieldFile, FieldNumber)
	textFields      = append(slices.Clone(companionFields), FieldIndex, FieldSize, FieldSum, FieldYear, FieldPlayers,
		FieldPublisher, FieldText, FieldForm, FieldParts, FieldSection, FieldPlace, FieldFavourite, FieldLocked)
	// joinedFields are those of the header and trailer of a joined file, and pieceFields those of one piece.
	joinedFields = append(slices.Clone(titleFields), FieldSize, FieldOffset, FieldParts, FieldForm, FieldYear,
		FieldPlayers,
		FieldPublisher)
	pieceFields = append(slices.Clone(joinedFields), FieldIndex, FieldFile)
	lineFields  = append(slices.Clone(textFields), FieldPage)
	// hereFields are those of the target alone.
	hereFields = []Field{FieldVia, FieldFilesystem, FieldVolume, FieldCapacity}
	// conditionFields are what a rule's condition can ask for of a title.
	conditionFields = append(slices.Clone(titleFields), FieldSize, FieldForm, FieldParts, FieldTags, FieldYear,
		FieldPlayers, FieldPublisher, FieldVia, FieldFilesystem, FieldVolume, FieldCapacity)
	// listPathFields are what several titles have in common.
	listPathFields = []Field{
		FieldPlatform,
		FieldKind,
		FieldRegion,
		FieldFolder,
		FieldForm,
		FieldExt,
		FieldPage,
		FieldSection,
	}
	situationFields = append(slices.Clone(hereFields), FieldSituation)
)

// Situations are what a checklist's conditions can ask for.
var Situations = []string{"added", "removed", "direct-cable", "covers", "first-time", "several-discs"}
