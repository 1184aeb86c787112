# Writes what is no report.
printf '\000\001{]'
