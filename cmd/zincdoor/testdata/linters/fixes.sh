# Rewrites all of each file it is given: feet become metres.
for file in "$@"; do
	sed 's/feet/metres/' "./$file" >"./$file.new" && mv "./$file.new" "./$file"
done
