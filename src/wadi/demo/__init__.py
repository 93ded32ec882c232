"""The sample site: the Merrowdale Water Office and its public register of springs and wells, all of it made up."""
