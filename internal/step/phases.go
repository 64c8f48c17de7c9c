package step

import "tivset/internal/records/job"

// stages are those of each kind of step.
var stages = map[string]job.Stage{
	"claim": job.StageReserving, "keep-secrets": job.StageReserving, "swap-secrets": job.StageReserving,
	"prove-domain":    job.StageReserving,
	"put-helper-page": job.StageReserving,
	"back-up":         job.StageBackingUp,
	"close":           job.StageClosing, "keep-data": job.StageClosing, "keep-files": job.StageClosing,
	"make-database": job.StageData, "make-user": job.StageData, "use-database": job.StageData, "load-data": job.StageData,
	"make-folder": job.StageFiles, "unpack": job.StageFiles, "unpack-backup": job.StageFiles, "prepare": job.StageFiles,
	"set-modes": job.StageFiles,
	"unclaim":   job.StageFiles,
	"set-up":    job.StageSettingUp,
	"set-aside": job.StagePlacing, "put-in-place": job.StagePlacing, "swap": job.StagePlacing,
	"put-index-pages": job.StageChecking, "cover-pages": job.StagePlacing, "uncover-pages": job.StageFinishing,
	"await-settings": job.StageChecking, "check": job.StageChecking,
	"set-password": job.StageRenewing,
	"set-timers":   job.StageTiming,
	"record":       job.StageFinishing, "save-site": job.StageFinishing, "tidy": job.StageFinishing,
	"drop-files": job.StageFinishing,
	"drop-here":  job.StageFinishing, "remove-old": job.StageFinishing, "take-helper-page": job.StageFinishing,
}

// StageOf gives the stage of a kind of step.
func StageOf(kind string) job.Stage { return stages[kind] }

// Phase is embedded by steps of kinds that several stages have.
type Phase struct {
	Of job.Stage `json:"phase,omitempty"` // "" for the usual of the kind
}

// Stage implements job.Staged.
func (p Phase) Stage() job.Stage { return p.Of }
