package wordlist
import ("testing";"os";"path/filepath";"strings";"fmt";"sort";"time";"zincdoor/internal/core/spelling";"zincdoor/internal/core/comment")
func TestZZ(t *testing.T){
 st:=time.Now(); d,err:=English(); if err!=nil{t.Fatal(err)}; fmt.Println(d.Len(), time.Since(st))
 s:=&spelling.Speller{Dictionaries: []*spelling.Dictionary{d}}
 words,lines:=0,0; files:=map[string]map[string]bool{}; count:=map[string]int{}
 st=time.Now()
 known:=map[string]bool{}
 filepath.Walk(os.Getenv("ZZ"),func(p string,i os.FileInfo,err error)error{
  if err!=nil||i.IsDir()||!comment.Knows(p)||strings.Contains(p,"testdata") ||strings.Contains(p,"vendor/"){return nil}
  b,_:=os.ReadFile(p); lines+=strings.Count(string(b),"\n")
  spelling.Words(p,b,os.Getenv("ZN")!="",func(w spelling.Word){ words++
   k,ok:=known[w.Text]; if !ok { k=s.Knows(w.Text); if !k { k = !spelling.Likely(w.Text, s.Suggest(w.Text)) }; known[w.Text]=k }
   if !k && !w.Name && spelling.Named(p,b,w.Text) { return }
   if !k { l:=strings.ToLower(w.Text); if files[l]==nil{files[l]=map[string]bool{}}; files[l][p]=true; count[l]++ } })
  return nil})
 fmt.Println(words,"words",lines,"lines",len(known),"distinct",time.Since(st))
 var rest []string; n:=0; all:=0
 for w,f:=range files { all+=count[w]; if len(f)<5 { rest=append(rest,w); n+=count[w] } }
 fmt.Println("unknown",all,"after known",n, "one in", words/max(n,1), "distinct", len(rest))
 sort.Slice(rest,func(a,b int)bool{return count[rest[a]]>count[rest[b]]})
 for _,w:=range rest[:min(len(rest),150)] { fmt.Print(w," ",count[w],", ") }
 fmt.Println()
}
