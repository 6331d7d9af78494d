package benchmark
import ("testing";"os";"fmt";"time";"strconv";"strings";"tinbell/core/detect";"tinbell/core/learn")
func TestZ(t *testing.T){
 if os.Getenv("ZSORT")=="" {t.Skip()}
 pi,_:=strconv.Atoi(os.Getenv("ZP")); st:=stretches[pi]
 for k:=range everydays { if !strings.Contains(everydays[k].Name,os.Getenv("ZSORT")) {continue}
 for n:=range 6 { s:=newEveryday(&everydays[k],101,st,n,false)
  var ev *detect.Evaluator
  al,err:=learn.Walk(learn.Job{Config:s.Config,Rule:ruleOf(.1),History:s.History,From:s.From,Visit:func(i int,e *detect.Evaluator){ if ev==nil&&os.Getenv("ZV")!="" {fmt.Print(e.ZFit())}; ev=e},
  Read:func(r detect.Reading){ if os.Getenv("ZV")=="2" && (r.Change==detect.Opened) { fmt.Println("  ",time.Unix(r.At,0).UTC(),r.Observed,r.Expected,r.Low,r.High,ev.ZDebug()) }}})
  fmt.Println(n,err,len(al)); for _,a:=range al { fmt.Printf("   %s %v since %s raised %s end %s window %d strength %.2f %s\n",a.Cause,a.Direction,time.Unix(a.Since,0).UTC().Format("01-02 15:04"),time.Unix(a.Raised,0).UTC().Format("01-02 15:04"),time.Unix(a.End,0).UTC().Format("01-02 15:04"),a.Window,a.Strength,a.Reason) }
 }}}
